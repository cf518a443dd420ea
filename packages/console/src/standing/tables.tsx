import { Anchor, Text } from '@mantine/core';
import type { Upcoming } from '@orchard/contract';
import { Link } from 'react-router';
import { useEnvironment } from '../environment.js';
import { Moment } from '../parts/basics.js';
import { TableHead } from '../parts/tableHead.js';

function RecordLink({ collection, id }: { collection: string; id: string }) {
  const { base } = useEnvironment();
  return (
    <Anchor component={Link} size="sm" className="mono" to={`${base}/data/${collection}?open=${encodeURIComponent(id)}`}>
      {id.length > 20 ? `…${id.slice(-12)}` : id}
    </Anchor>
  );
}

/** Who gets what next, each at the time on their own clock. */
export function UpcomingTable({ items, collection }: { items: Upcoming[]; collection: string }) {
  const { base } = useEnvironment();
  if (items.length === 0) return <Text c="dimmed">Nobody: no record that fits has a date ahead.</Text>;
  return (
    <div className="listing">
      <table>
        <TableHead columns={['When', 'Record', 'Who', 'What', 'Arrives on']} />
        <tbody>
          {items.map(({ record, dueAt, zone, userId, person, title, body, reach }) => (
            <tr key={record}>
              <td>
                {clockOf(dueAt, zone)}
                <div className="hint">{zone}</div>
              </td>
              <td>
                <RecordLink collection={collection} id={record} />
              </td>
              <td>
                {userId ? (
                  <Anchor component={Link} size="sm" to={`${base}/users?open=${userId}`}>
                    {person ?? `guest …${userId.slice(-8)}`}
                  </Anchor>
                ) : (
                  'nobody'
                )}
              </td>
              <td className="whole">
                <strong>{title}</strong> {body}
              </td>
              <td className={`whole${/^\d|^By /.test(reach) ? '' : ' care'}`}>{reach}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** A moment on somebody's own clock: `Fri 27 Nov, 18:00`. */
const clockOf = (at: string, timeZone: string): string =>
  new Date(at).toLocaleString('en-GB', { timeZone, weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' });

type SentItem = { record: string; value: string; at: string; outcome: string; reason: string | null; notification: string | null };

/** What was sent for which record, or why not. */
export function SentTable({ items, collection }: { items: SentItem[]; collection: string }) {
  const { base } = useEnvironment();
  if (items.length === 0) return <Text c="dimmed">Nothing yet.</Text>;
  return (
    <div className="listing">
      <table>
        <TableHead columns={['At', 'Record', 'For', 'Outcome']} />
        <tbody>
          {items.map(({ record, value, at, outcome, reason, notification }) => (
            <tr key={`${record} ${value}`}>
              <td>
                <Moment at={at} />
              </td>
              <td>
                <RecordLink collection={collection} id={record} />
              </td>
              <td className="mono">{value}</td>
              <td className="whole">
                {notification ? (
                  <Anchor component={Link} size="sm" to={`${base}/sent/${notification}`}>
                    sent
                  </Anchor>
                ) : (
                  <span className="care">{outcome}</span>
                )}{' '}
                {reason}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
