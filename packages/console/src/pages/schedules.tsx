/** Functions that run by the clock: when each runs next, and how the last run went. */
import { Anchor, Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import { Link } from 'react-router';
import { OFTEN, useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Empty, Loaded, Moment, PageHead } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';

export function SchedulesPage() {
  const { params, base } = useEnvironment();
  const functions = useCall(operations.functions.list, { params }, OFTEN);
  return (
    <>
      <PageHead title="Schedules" hint="Functions that run by the clock, soonest first" />
      <Loaded of={functions}>
        {({ items }) => {
          const schedules = items
            .filter(({ kind }) => kind === 'schedule')
            .sort((a, b) => (a.nextAt ?? '9').localeCompare(b.nextAt ?? '9'));
          if (schedules.length === 0)
            return (
              <Empty title="No schedule yet">
                <Text>
                  <Link to={`${base}/functions?add=1`}>Add a function</Link> of the kind schedule: one instance runs it at its time.
                </Text>
              </Empty>
            );
          return (
            <div className="listing">
              <table>
                <TableHead
                  columns={['Schedule', 'Clock', 'Next', 'Last', 'Outcome', 'Missed times', { right: 'Runs, 24 h' }, { right: 'Failed' }]}
                />
                <tbody>
                  {schedules.map(({ name, clock, zone, nextAt, lastAt, lastOutcome, missed, runs, waiting }) => (
                    <tr key={name}>
                      <td>
                        <Anchor component={Link} size="sm" to={`${base}/functions?open=${name}`}>
                          {name}
                        </Anchor>
                      </td>
                      <td>
                        <span className="mono">{clock}</span>
                        <div className="hint">{zone}</div>
                      </td>
                      <td>{nextAt ? <Moment at={nextAt} /> : 'not in force'}</td>
                      <td>{lastAt ? <Moment at={lastAt} /> : 'never'}</td>
                      <td className={lastOutcome === 'failed' || lastOutcome === 'stopped' ? 'care' : undefined}>
                        {lastOutcome ?? '–'}
                        {waiting > 0 && <div className="hint">{count(waiting)} to be retried</div>}
                      </td>
                      <td>{missed}</td>
                      <td className="right mono">{count(runs.count)}</td>
                      <td className={runs.failed > 0 ? 'right mono care' : 'right mono'}>{count(runs.failed)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          );
        }}
      </Loaded>
    </>
  );
}
