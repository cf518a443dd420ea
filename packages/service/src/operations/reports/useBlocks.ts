/** Calls and latency of a period as blocks of a report. */
import { type NewReport, operations, type Usage } from '@orchard/contract';
import type { Block, CareItem, Figure } from '@orchard/core';
import { type Ask, inIso, type Period } from './asking.js';

type Narrowed = Pick<NewReport, 'client' | 'route' | 'target'>;

export function readUse(ask: Ask, period: Period, { client, route, target }: Narrowed = {}): Promise<Usage> {
  const narrowed = { ...(client ? { client } : {}), ...(route ? { route } : {}), ...(target ? { target } : {}) };
  return ask(operations.telemetry.usage, { query: { ...inIso(period), ...narrowed, compare: 'previous' } });
}

const shareOf = (part: number, all: number): number | null => (all === 0 ? null : part / all);

export function callFigures({ total, previous }: Usage): Figure[] {
  const before = previous?.total;
  const hadCalls = before !== undefined && before.calls > 0;
  return [
    { label: 'Calls', value: total.calls, unit: 'count', before: before?.calls, worse: null },
    {
      label: 'Failed',
      value: shareOf(total.serverErrors, total.calls),
      unit: 'share',
      before: hadCalls ? shareOf(before.serverErrors, before.calls) : null,
      worse: 'higher',
    },
    {
      label: 'Refused',
      value: shareOf(total.clientErrors, total.calls),
      unit: 'share',
      before: hadCalls ? shareOf(before.clientErrors, before.calls) : null,
      worse: 'higher',
    },
    { label: 'Median latency', value: total.p50Ms, unit: 'ms', before: before?.p50Ms ?? null, worse: 'higher' },
    { label: 'p95 latency', value: total.p95Ms, unit: 'ms', before: before?.p95Ms ?? null, worse: 'higher' },
  ];
}

export function callCharts({ steps, stepMs }: Usage): Block[] {
  const [first] = steps;
  if (!first) return [];
  const common = { kind: 'chart', stepMs, from: Date.parse(first.at) } as const;
  return [
    {
      ...common,
      title: `Calls per ${stepWords(stepMs)}`,
      unit: 'calls',
      draw: 'bar',
      series: [
        {
          label: 'successful',
          colour: 'viridian',
          values: steps.map(({ calls, clientErrors, serverErrors }) => calls - clientErrors - serverErrors),
        },
        { label: 'refused (4xx)', colour: 'honey', values: steps.map(({ clientErrors }) => clientErrors) },
        { label: 'failed (5xx)', colour: 'persimmon', values: steps.map(({ serverErrors }) => serverErrors) },
      ],
    },
    {
      ...common,
      title: 'Latency',
      unit: 'ms',
      draw: 'line',
      series: [
        { label: 'median', colour: 'viridian', values: steps.map(({ p50Ms }) => p50Ms) },
        { label: 'p95', colour: 'honey', values: steps.map(({ p95Ms }) => p95Ms) },
      ],
    },
  ];
}

const stepWords = (ms: number): string => (ms < 3_600_000 ? `${ms / 60_000} min` : ms < 86_400_000 ? `${ms / 3_600_000} h` : 'day');

/** A route with the collection or channel in it. */
const nameOf = ({ method, route, target }: Usage['routes'][number]): string =>
  `${method} ${target ? route.replace(/\{\w+\}/, target) : route}`;

const MOST_ROUTES = 30;

export function routeTable({ routes }: Usage): Block {
  return {
    kind: 'table',
    title: 'Routes',
    columns: [
      { name: 'route', label: 'Route', type: 'text' },
      { name: 'calls', label: 'Calls', type: 'number' },
      { name: 'refused', label: 'Refused', type: 'number' },
      { name: 'failed', label: 'Failed', type: 'number' },
      { name: 'p50Ms', label: 'Median (ms)', type: 'number' },
      { name: 'p95Ms', label: 'p95 (ms)', type: 'number' },
      { name: 'beforeP95Ms', label: 'p95 before (ms)', type: 'number' },
    ],
    rows: routes
      .slice(0, MOST_ROUTES)
      .map((one) => [nameOf(one), one.calls, one.clientErrors, one.serverErrors, one.p50Ms, one.p95Ms, one.beforeP95Ms ?? null]),
    isCut: routes.length > MOST_ROUTES,
  };
}

const SLOWER_TIMES = 1.5;
const LEAST_CALLS = 50;
const MOST_SLOWER = 3;

/** The routes whose p95 grew the most. */
export function slowerRoutes({ routes }: Usage, place: string): CareItem[] {
  return routes
    .flatMap((one) => {
      const times = one.p95Ms && one.beforeP95Ms ? one.p95Ms / one.beforeP95Ms : 0;
      return times >= SLOWER_TIMES && one.calls >= LEAST_CALLS ? [{ one, times }] : [];
    })
    .sort((a, b) => b.times - a.times)
    .slice(0, MOST_SLOWER)
    .map(({ one, times }) => ({
      weight: 20 + Math.min(9, times),
      text: `${nameOf(one)} got slower: p95 ${one.p95Ms} ms, ${times.toFixed(1)} times what it was`,
      link: `/${place}/api-use?range=7d&compare=1&route=${encodeURIComponent(one.route)}${one.target ? `&target=${encodeURIComponent(one.target)}` : ''}`,
    }));
}
