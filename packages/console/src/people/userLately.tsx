/** What support asks first of a user: on which devices they are, whether those can be reached, and what they did lately. */
import { Anchor, Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Moment } from '../parts/basics.js';
import { milliseconds, readable } from '../parts/format.js';
import { Verdict } from '../parts/verdict.js';
import { Part } from './part.js';

/** Beyond these the lists themselves are opened. */
const SHOWN = 6;

/** @param user id */
export function UserLately({ user }: { user: string }) {
  const filter = `userId = '${user}'`;
  return (
    <>
      <Devices filter={filter} />
      <Calls filter={filter} />
    </>
  );
}

function Devices({ filter }: { filter: string }) {
  const { params, base } = useEnvironment();
  const devices = useCall(operations.devices.list, { params, query: { filter, sort: '-lastSeenAt', limit: SHOWN } });
  return (
    <Part title="Devices">
      <Loaded of={devices}>
        {({ items, next }) =>
          items.length === 0 ? (
            <Text size="sm">None has registered while they were signed in.</Text>
          ) : (
            <>
              <table className="plain">
                <tbody>
                  {items.map(({ id, platform, model, appVersion, reachable, reach, lastSeenAt }) => (
                    <tr key={id}>
                      <td>
                        <Anchor component={Link} size="sm" to={`${base}/devices?open=${encodeURIComponent(id)}`}>
                          {model ?? platform}
                        </Anchor>{' '}
                        {appVersion}
                      </td>
                      <td>
                        <Verdict well={reachable} yes="reachable" no="not reachable" because={reach} />
                      </td>
                      <td className="right">
                        <Moment at={lastSeenAt} />
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {next && <AllOf what="devices" filter={filter} />}
            </>
          )
        }
      </Loaded>
    </Part>
  );
}

function Calls({ filter }: { filter: string }) {
  const { params, base } = useEnvironment();
  const calls = useCall(operations.telemetry.requests, { params, query: { filter, limit: SHOWN } });
  return (
    <Part title="What they did lately">
      <Loaded of={calls}>
        {({ items, next }) =>
          items.length === 0 ? (
            <Text size="sm">No call of theirs is kept.</Text>
          ) : (
            <>
              <table className="plain">
                <tbody>
                  {items.map(({ id, at, method, path, status, durationMs, problem }) => (
                    <tr key={id}>
                      <td className="unbroken">
                        <Moment at={at} />
                      </td>
                      <td className="mono" style={{ overflowWrap: 'anywhere' }}>
                        <Anchor component={Link} size="sm" to={`${base}/requests?open=${id}`}>
                          {method} {readable(path)}
                        </Anchor>
                      </td>
                      <td className={status >= 400 ? 'right care' : 'right'}>{problem ?? status}</td>
                      <td className="right mono unbroken">{milliseconds(durationMs)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {next && <AllOf what="requests" filter={filter} />}
            </>
          )
        }
      </Loaded>
    </Part>
  );
}

function AllOf({ what, filter }: { what: 'devices' | 'requests'; filter: string }) {
  const { base } = useEnvironment();
  return (
    <Anchor component={Link} size="sm" to={`${base}/${what}?filter=${encodeURIComponent(filter)}`}>
      All {what}
    </Anchor>
  );
}
