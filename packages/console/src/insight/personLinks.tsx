/** A person of insight: the user, if there is one, and the devices, each with a link. */
import { Anchor } from '@mantine/core';
import { Link } from 'react-router';
import { useEnvironment } from '../environment.js';

type Person = { person: number; userId: string | null; deviceIds: string[] };
/** Devices that are named; the others are counted. */
const MOST_DEVICES = 2;

/** Two cells of a table. */
export function PersonCells({ of: { person, userId, deviceIds } }: { of: Person }) {
  const { base } = useEnvironment();
  return (
    <>
      <td>
        {userId ? (
          <Anchor component={Link} to={`${base}/users?open=${userId}`}>
            user …{userId.slice(-8)}
          </Anchor>
        ) : (
          `person ${person}, not signed in`
        )}
      </td>
      <td className="mono">
        {deviceIds.slice(0, MOST_DEVICES).map((id) => (
          <Anchor key={id} component={Link} to={`${base}/devices?open=${encodeURIComponent(id)}`} mr={6}>
            {id}
          </Anchor>
        ))}
        {deviceIds.length > MOST_DEVICES && `and ${deviceIds.length - MOST_DEVICES} more`}
      </td>
    </>
  );
}
