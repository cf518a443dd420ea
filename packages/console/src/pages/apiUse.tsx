/** API use: calls and latency over time, errors by route. */
import { Anchor, Group, NativeSelect, SimpleGrid, Stack, Switch, Text, Title } from '@mantine/core';
import { type Objective, operations, type Usage, USAGE_SPLITS, type UsageSplit } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { Empty, Loaded, PageHead } from '../parts/basics.js';
import { count, milliseconds } from '../parts/format.js';
import { ChartPanel, type Limit } from '../parts/chart.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { PERIOD_OF, RangeControl, useRange } from '../parts/range.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { SPLIT_WORDS, UsageParts } from '../requests/usageParts.js';
import { SERIES } from '../theme.js';
import { SaveReport } from '../parts/saveReport.js';
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
  { name: 'calls', label: 'calls (right axis)', color: SERIES.slate, axis: 'right' as const },
];

export const callRows = (steps: Usage['steps']) =>
  steps.map(({ at, calls, clientErrors, serverErrors }) => ({
    at,
    answered: calls - clientErrors - serverErrors,
    refused: clientErrors,
    failed: serverErrors,
  }));
const BEFORE_SERIES = { name: 'before', label: 'p95 of the period before', color: SERIES.persimmon };
const latencyRows = (steps: Usage['steps'], before?: Usage['steps']) =>
  steps.map(({ at, p50Ms, p95Ms, p99Ms, calls }, i) => ({
    at,
    calls,
    p50: p50Ms,
    p95: p95Ms,
    p99: p99Ms,
    ...(before ? { before: before[i]?.p95Ms ?? null } : {}),
  }));
const COMPARED_SERIES = [
  { name: 'calls', label: 'calls', color: SERIES.viridian },
  { name: 'refused', label: 'refused (4xx)', color: SERIES.honey },
  { name: 'failed', label: 'failed (5xx)', color: SERIES.persimmon },
  { name: 'before', label: 'calls of the period before', color: SERIES.slate },
];
const comparedRows = (steps: Usage['steps'], before: Usage['steps']) =>
  steps.map(({ at, calls, clientErrors, serverErrors }, i) => ({
    at,
    calls,
    refused: clientErrors,
    failed: serverErrors,
    before: before[i]?.calls ?? null,
  }));

/** The limits of the objectives for the latency of what is shown. */
function latencyLimits(objectives: readonly Objective[], shown: { client: string; route: string; target: string }): Limit[] {
  const isAboutIt = ({ subject }: Objective) => {
    if (shown.route) return subject.of === 'route' && subject.route === shown.route && (subject.target ?? '') === shown.target;
    return shown.client ? subject.of === 'client' && subject.name === shown.client : subject.of === 'calls';
  };
  return objectives.flatMap((objective) => {
    const { measure, stressed, failing } = objective;
    if (measure.of !== 'latency' || !isAboutIt(objective)) return [];
    return [
      { value: stressed, label: `${measure.statistic} stressed`, color: SERIES.honey },
      { value: failing, label: `${measure.statistic} failing`, color: SERIES.persimmon },
    ];
  });
}

/** A route with the collection or channel in it. */
const nameOf = (route: string, target: string | null): string => (target ? route.replace(/\{\w+\}/, target) : route);
const stepWords = (ms: number) => (ms < 3_600_000 ? `${ms / 60_000} min` : ms < 86_400_000 ? `${ms / 3_600_000} h` : 'day');

/** Versions and countries are counted for all routes together. */
const splitsOf = (route: string): UsageSplit[] => USAGE_SPLITS.filter((one) => !route || one === 'client' || one === 'status');
const splitOf = (name: string, route: string): UsageSplit | undefined => splitsOf(route).find((one) => one === name);

export function ApiUsePage() {
  const { params, base } = useEnvironment();
  const range = useRange();
  const [client, setClient] = useAddressState('client');
  const [route, setRoute] = useAddressState('route');
  const clients = useCall(operations.clients.list, { params });
  const [target, setTarget] = useAddressState('target');
  const [compare, setCompare] = useAddressState('compare');
  const [split, setSplit] = useAddressState('by');
  const by = splitOf(split, route);
  const query = {
    ...range.query,
    ...(by ? { by } : {}),
    ...(client ? { client } : {}),
    ...(route ? { route } : {}),
    ...(target ? { target } : {}),
    ...(compare ? { compare: 'previous' as const } : {}),
  };
  const asked = { params, query };
  const choose = (of: { route: string; target: string | null } | null) => {
    setRoute(of?.route ?? null);
    setTarget(of?.target ?? null);
  };
  const usage = useCall(operations.telemetry.usage, asked, { refetchInterval: 15_000 });
  const objectives = useCall(operations.objectives.read, { params });
  const limits = latencyLimits(objectives.data?.items ?? [], { client, route, target });
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
        <NativeSelect
          aria-label="Split by"
          size="xs"
          value={by ?? ''}
          onChange={({ currentTarget }) => setSplit(currentTarget.value || null)}
          data={[
            { value: '', label: 'Not split' },
            ...splitsOf(route).map((value) => ({ value, label: `By ${SPLIT_WORDS[value].toLowerCase()}` })),
          ]}
        />
        <Switch
          size="xs"
          label="Period before"
          checked={compare !== ''}
          onChange={({ currentTarget }) => setCompare(currentTarget.checked ? '1' : null)}
        />
        <RangeControl range={range} />
        <SaveReport
          of={{ source: 'use', ...(client ? { client } : {}), ...(route ? { route } : {}), ...(target ? { target } : {}) }}
          period={PERIOD_OF[range.name]}
        />
        <FromCode calls={[coded(operations.telemetry.usage, asked)]} />
      </PageHead>
      <Loaded of={usage}>
        {({ total, steps, stepMs, routes, parts, previous }) =>
          total.calls === 0 ? (
            <Empty title="No calls in this period">
              <Text>
                Choose a longer one above, or make the first call:{' '}
                <Anchor component={Link} to={`${base}/first-calls`}>
                  First calls
                </Anchor>
                .
              </Text>
            </Empty>
          ) : (
            <>
              {route && (
                <Group gap="xs">
                  <Text size="sm">
                    Only calls of <code>{nameOf(route, target || null)}</code>.
                  </Text>
                  <Anchor component="button" size="sm" onClick={() => choose(null)}>
                    Show all routes
                  </Anchor>
                </Group>
              )}
              <SimpleGrid cols={{ base: 1, lg: 2 }} spacing="xl">
                {/* Another chart, not the same one with other data: what stacks cannot stand beside a line of before. */}
                {previous ? (
                  <ChartPanel
                    key="compared"
                    title={`Calls per ${stepWords(stepMs)}`}
                    unit="calls"
                    rows={comparedRows(steps, previous.steps)}
                    series={COMPARED_SERIES}
                    stepMs={stepMs}
                  />
                ) : (
                  <ChartPanel
                    title={`Calls per ${stepWords(stepMs)}`}
                    unit="calls"
                    rows={callRows(steps)}
                    series={CALL_SERIES}
                    stepMs={stepMs}
                    kind="bar"
                    stacked
                  />
                )}
                <ChartPanel
                  title="Latency"
                  unit="ms"
                  rows={latencyRows(steps, previous?.steps)}
                  series={previous ? [...LATENCY_SERIES, BEFORE_SERIES] : LATENCY_SERIES}
                  limits={limits}
                  stepMs={stepMs}
                />
              </SimpleGrid>
              {by && parts && <UsageParts by={by} parts={parts} stepMs={stepMs} step={stepWords(stepMs)} base={base} />}
              {previous && <Slower routes={routes} onRoute={choose} />}
              <Routes routes={routes} base={base} onRoute={choose} />
            </>
          )
        }
      </Loaded>
    </Stack>
  );
}

/** Errors by route: each count links to its requests. */
type OnRoute = (of: { route: string; target: string | null }) => void;

const MOST_SLOWER = 5;

/** The routes whose p95 grew the most. */
function Slower({ routes, onRoute }: { routes: Usage['routes']; onRoute: OnRoute }) {
  const slower = routes
    .flatMap((one) => {
      const { p95Ms, beforeP95Ms } = one;
      return p95Ms && beforeP95Ms && p95Ms > beforeP95Ms * 1.1 ? [{ ...one, p95Ms, beforeP95Ms, times: p95Ms / beforeP95Ms }] : [];
    })
    .sort((a, b) => b.times - a.times)
    .slice(0, MOST_SLOWER);
  if (slower.length === 0) return <Text size="sm">No route got slower than in the period before.</Text>;
  return (
    <section className="panel" aria-label="Slower than before">
      <Title order={2} mb="xs">
        Slower than before
      </Title>
      <table className="plain">
        <tbody>
          {slower.map(({ method, route, target, p95Ms, beforeP95Ms, times }) => (
            <tr key={`${method} ${route} ${target}`}>
              <td>
                <Anchor component="button" className="mono" onClick={() => onRoute({ route, target })}>
                  {method} {nameOf(route, target)}
                </Anchor>
              </td>
              <td className="right mono">{times.toFixed(1)} ×</td>
              <td className="mono">
                p95 {milliseconds(p95Ms)}, before {milliseconds(beforeP95Ms)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Routes({ routes, base, onRoute }: { routes: Usage['routes']; base: string; onRoute: OnRoute }) {
  const to = ({ method, route, target }: Usage['routes'][number], condition: string) => {
    // Only routes that name a collection or channel are told apart by it.
    const only = target
      ? ` AND target = '${target}'`
      : route.includes('{collection}') || route.includes('{channel}')
        ? ' AND target IS NULL'
        : '';
    return `${base}/requests?filter=${encodeURIComponent(`method = '${method}' AND route = '${route}'${only}${condition}`)}`;
  };
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
            {routes.map((one) => {
              const { method, route, target, calls, clientErrors, serverErrors, p50Ms, p95Ms, p99Ms, statuses } = one;
              const errors = Object.entries(statuses).filter(([status]) => Number(status) >= 400);
              return (
                <tr key={`${method} ${route} ${target}`}>
                  <td>
                    <button type="button" className="open mono" onClick={() => onRoute({ route, target })}>
                      {method} {nameOf(route, target)}
                    </button>
                  </td>
                  <td className="right mono">
                    <Anchor component={Link} to={to(one, '')} c="inherit">
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
                          <Anchor key={status} component={Link} to={to(one, ` AND status = ${status}`)} size="sm">
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
