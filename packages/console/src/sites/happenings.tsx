/** What happens on the pages of a site: loads by page and status, and what browsers refuse on them. */
import { Anchor, Stack, Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import { OFTEN, useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Empty, Loaded, Moment } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { count, counted } from '../parts/format.js';
import { SERIES } from '../theme.js';

const own = operations.sites;
const HOUR_MS = 3_600_000;

export function Loads({ name }: { name: string }) {
  const { params } = useEnvironment();
  const answer = useCall(own.loads, { params: { ...params, site: name }, query: { hours: 24 } }, OFTEN);
  return (
    <Loaded of={answer}>
      {({ items, hours }) =>
        items.length === 0 ? (
          <Empty title="No page was loaded yet">
            <Text>Each load of a page is counted, by page and status. What pages bring along is not.</Text>
          </Empty>
        ) : (
          <Stack gap="sm">
            <ChartPanel
              title="Page loads by hour"
              unit="events"
              rows={hours.map(({ at, loads, failed }) => ({ at, well: loads - failed, failed }))}
              series={[
                { name: 'well', label: 'Loads', color: SERIES.viridian },
                { name: 'failed', label: 'Not found', color: SERIES.plum },
              ]}
              stepMs={HOUR_MS}
              kind="bar"
              stacked
              height={180}
            />
            <section className="listing" aria-label="Pages">
              <table>
                <thead>
                  <tr>
                    <th scope="col">Page</th>
                    <th scope="col" className="right">
                      Status
                    </th>
                    <th scope="col" className="right">
                      Loads
                    </th>
                    <th scope="col">Last</th>
                  </tr>
                </thead>
                <tbody>
                  {items.map(({ page, status, loads, lastAt }) => (
                    <tr key={`${page} ${status}`}>
                      <td className="mono">{page}</td>
                      <td className={status >= 400 ? 'right mono care' : 'right mono'}>{status}</td>
                      <td className="right mono">{count(loads)}</td>
                      <td>
                        <Moment at={lastAt} />
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </section>
          </Stack>
        )
      }
    </Loaded>
  );
}

export function Reports({ name }: { name: string }) {
  const { params, base } = useEnvironment();
  const answer = useCall(own.reports, { params: { ...params, site: name } }, OFTEN);
  return (
    <Loaded of={answer}>
      {({ items }) =>
        items.length === 0 ? (
          <Empty title="Browsers refused nothing">
            <Text>
              What a Content-Security-Policy of the site refuses is reported here, with what to do about it. Calls that were refused because
              of their origin stand under <Anchor href={`${base}/setup`}>Clients and keys</Anchor>.
            </Text>
          </Empty>
        ) : (
          <Stack gap="sm">
            {items.map((one) => (
              <section key={`${one.directive} ${one.blocked} ${one.page}`} className="panel">
                <Text size="sm">
                  <b>{one.directive || one.kind}</b> refused <span className="mono">{one.blocked}</span> on{' '}
                  <span className="mono">{one.page}</span>
                </Text>
                <Text size="sm">{one.advice}</Text>
                <Text size="xs" c="dimmed">
                  {counted(one.count, 'report')}, last <Moment at={one.lastAt} />
                </Text>
              </section>
            ))}
          </Stack>
        )
      }
    </Loaded>
  );
}
