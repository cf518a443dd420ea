/** API use: calls and latency over time, errors by route. */
import { Anchor, Group, NativeSelect, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { operations, type Usage } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { Empty, Loaded, PageHead } from '../parts/basics.js';
import { count, milliseconds } from '../parts/format.js';
import { ChartPanel } from '../parts/chart.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { RangeControl, useRange } from '../parts/range.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { SERIES } from '../theme.js';
import { TableHead } from '../parts/tableHead.js';

export const CALL_SERIES = [
  { name: 'answered', label: 'successful', color: SERIES.viridian },
  { name: 'refused', label: 'refused (4xx)', color: SERIES.honey },
  { name: 'failed', label: 'failed (5xx)', color: SERIES.persimmon },
];
const LATENCY_SERIES = [
  { name: 'p50', label: 'p50', color: SERIES.viridian },
  { name: 'p95', label: 'p95', color: SERIES.honey },
  { name: 'p99', label: 'p99', color: SERIES.plum },
];

export const callRows = (steps: Usage['steps']) =>
  steps.map(({ at, calls, clientErrors, serverErrors }) => ({
    at,
    answered: calls - clientErrors - serverErrors,
    refused: clientErrors,
    failed: serverErrors,
  }));
const latencyRows = (steps: Usage['steps']) => steps.map(({ at, p50Ms, p95Ms, p99Ms }) => ({ at, p50: p50Ms, p95: p95Ms, p99: p99Ms }));
const stepWords = (ms: number) => (ms < 3_600_000 ? `${ms / 60_000} min` : ms < 86_400_000 ? `${ms / 3_600_000} h` : 'day');

export function ApiUsePage() {
  const { params, base } = useEnvironment();
  const range = useRange();
  const [client, setClient] = useAddressState('client');
  const [route, setRoute] = useAddressState('route');
  const clients = useCall(operations.clients.list, { params });
  const asked = { params, query: { ...range.query, ...(client ? { client } : {}), ...(route ? { route } : {}) } };
  const usage = useCall(operations.telemetry.usage, asked, { refetchInterval: 15_000 });
  return (
    <Stack gap="lg">
      <PageHead title="API use" hint="All calls to this environment, including refused ones">
        <NativeSelect
          aria-label="Client"
          size="xs"
          value={client}
          onChange={({ currentTarget }) => setClient(currentTarget.value)}
          data={[{ value: '', label: 'All clients' }, ...(clients.data?.items ?? []).map(({ name }) => name)]}
        />
        <RangeControl range={range} />
        <FromCode calls={[coded(operations.telemetry.usage, asked)]} />
      </PageHead>
      <Loaded of={usage}>
        {({ total, steps, stepMs, routes }) =>
          total.calls === 0 ? (
            <Empty title="No calls in this period">
              <Text>
                Choose a longer one above, or make the first call:{' '}
                <Anchor component={Link} to={`${base}/quick-start`}>
                  Quick start
                </Anchor>
                .
              </Text>
            </Empty>
          ) : (
            <>
              {route && (
                <Group gap="xs">
                  <Text size="sm">
                    Only calls of <code>{route}</code>.
                  </Text>
                  <Anchor component="button" size="sm" onClick={() => setRoute(null)}>
                    Show all routes
                  </Anchor>
                </Group>
              )}
              <SimpleGrid cols={{ base: 1, lg: 2 }} spacing="xl">
                <ChartPanel
                  title={`Calls per ${stepWords(stepMs)}`}
                  unit="calls"
                  rows={callRows(steps)}
                  series={CALL_SERIES}
                  stepMs={stepMs}
                  kind="bar"
                  stacked
                />
                <ChartPanel title="Latency" unit="ms" rows={latencyRows(steps)} series={LATENCY_SERIES} stepMs={stepMs} />
              </SimpleGrid>
              <Routes routes={routes} base={base} onRoute={setRoute} />
            </>
          )
        }
      </Loaded>
    </Stack>
  );
}

/** Errors by route: each count links to its requests. */
function Routes({ routes, base, onRoute }: { routes: Usage['routes']; base: string; onRoute: (route: string) => void }) {
  const to = (method: string, route: string, condition: string) =>
    `${base}/requests?filter=${encodeURIComponent(`method = '${method}' AND route = '${route}'${condition}`)}`;
  const most = Math.max(...routes.map(({ calls }) => calls));
  return (
    <section className="panel" aria-label="Routes">
      <Title order={2} mb="xs">
        Routes and their errors
      </Title>
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead
            columns={[
              'Route',
              { right: 'Calls' },
              'Share',
              { right: 'p50' },
              { right: 'p95' },
              { right: 'p99' },
              { right: 'Errors' },
              'By status',
            ]}
          />
          <tbody>
            {routes.map(({ method, route, calls, clientErrors, serverErrors, p50Ms, p95Ms, p99Ms, statuses }) => {
              const errors = Object.entries(statuses).filter(([status]) => Number(status) >= 400);
              return (
                <tr key={`${method} ${route}`}>
                  <td>
                    <button type="button" className="open mono" onClick={() => onRoute(route)}>
                      {method} {route}
                    </button>
                  </td>
                  <td className="right mono">
                    <Anchor component={Link} to={to(method, route, '')} c="inherit">
                      {count(calls)}
                    </Anchor>
                  </td>
                  <td style={{ width: '9rem' }}>
                    <div className="share">
                      <i style={{ width: `${((calls - clientErrors - serverErrors) / most) * 100}%`, background: SERIES.viridian }} />
                      <i style={{ width: `${(clientErrors / most) * 100}%`, background: SERIES.honey }} />
                      <i style={{ width: `${(serverErrors / most) * 100}%`, background: SERIES.persimmon }} />
                    </div>
                  </td>
                  <td className="right mono">{milliseconds(p50Ms)}</td>
                  <td className="right mono">{milliseconds(p95Ms)}</td>
                  <td className="right mono">{milliseconds(p99Ms)}</td>
                  <td className="right mono">{(((clientErrors + serverErrors) / calls) * 100).toFixed(1)} %</td>
                  <td>
                    {errors.length === 0 ? (
                      '–'
                    ) : (
                      <Group gap="xs" wrap="nowrap">
                        {errors.map(([status, number]) => (
                          <Anchor key={status} component={Link} to={to(method, route, ` AND status = ${status}`)} size="sm">
                            {status}: {count(number)}
                          </Anchor>
                        ))}
                      </Group>
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
    </section>
  );
}
