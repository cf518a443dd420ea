/** Refused and failed calls of a period by problem, each a link to its calls. */
import { Anchor, Badge, Text, Title } from '@mantine/core';
import { operations, type ProblemCount } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';

export function Problems({ query, title = 'Refused and failed, by problem' }: { query: { from: string; until: string }; title?: string }) {
  const { params, base } = useEnvironment();
  const problems = useCall(operations.telemetry.problems, { params, query }, { refetchInterval: 15_000 });
  const to = (filter: string) =>
    `${base}/requests?filter=${encodeURIComponent(`${filter} AND at > TIMESTAMP('${query.from}') AND at < TIMESTAMP('${query.until}')`)}`;
  return (
    <section className="panel" aria-label="Problems">
      <Title order={2} mb="xs">
        {title}
      </Title>
      <Loaded of={problems}>
        {({ items }) =>
          items.length === 0 ? (
            <Text size="sm">None in this period.</Text>
          ) : (
            <div className="listing" style={{ borderTop: 0 }}>
              <table>
                <TableHead columns={['Problem', { right: 'Calls' }, { right: 'Change' }, 'Mostly at']} />
                <tbody>
                  {items.map((one) => (
                    <tr key={one.problem}>
                      <td>
                        <Anchor
                          component={Link}
                          to={to(`problem = '${one.problem}'`)}
                          className={one.failed ? 'care' : undefined}
                          title={one.title}
                        >
                          {one.problem}
                        </Anchor>{' '}
                        {one.isNew && (
                          <Badge size="xs" variant="outline" color="persimmon" c="var(--care)">
                            first seen
                          </Badge>
                        )}
                      </td>
                      <td className="right mono">{count(one.calls)}</td>
                      <td className="right mono">{changeWords(one)}</td>
                      <td>
                        {one.routes[0] && (
                          <Anchor
                            component={Link}
                            size="sm"
                            className="mono"
                            to={to(
                              `problem = '${one.problem}' AND method = '${one.routes[0].method}' AND route = '${one.routes[0].route}'`,
                            )}
                          >
                            {one.routes[0].method} {one.routes[0].route}
                          </Anchor>
                        )}
                        {one.routes.length > 1 && ` and ${one.routes.length - 1} more`}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Loaded>
    </section>
  );
}

/** Against the period before. */
function changeWords({ calls, before }: ProblemCount): string {
  if (before === 0) return 'new';
  const change = Math.round((calls / before - 1) * 100);
  return change === 0 ? 'as before' : `${change > 0 ? '+' : '−'}${Math.abs(change)} %`;
}
