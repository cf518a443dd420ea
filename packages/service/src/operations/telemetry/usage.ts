/** API use: sums of calls over time and by route. */
import type { Usage } from '@orchard/contract';
import {
  addPacked,
  chooseStep,
  denseHistogram,
  hasFailed,
  quantiles,
  sparseHistogram,
  STEPS,
  type Step,
  stepStarts,
  wasRefused,
} from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type PackedCount, readPacked } from './countStore.js';

export type UsageRange = { from: number; until: number; client?: string | undefined; route?: string | undefined };

const ms = (us: number) => Math.round(us) / 1000;

/** A sum of counts; their durations as a dense histogram. */
class Sum {
  calls = 0;
  refused = 0;
  failed = 0;
  readonly durations = denseHistogram();

  add({ status, calls, histogram }: PackedCount): void {
    this.calls += calls;
    if (hasFailed(status)) this.failed += calls;
    else if (wasRefused(status)) this.refused += calls;
    addPacked(this.durations, histogram);
  }

  addAll({ calls, refused, failed, durations }: Sum): void {
    this.calls += calls;
    this.refused += refused;
    this.failed += failed;
    for (let i = 0; i < durations.length; i++) this.durations[i] = (this.durations[i] as number) + (durations[i] as number);
  }

  present() {
    const [p50, p95, p99] = quantiles(sparseHistogram(this.durations), [0.5, 0.95, 0.99]).map((us) => (us === null ? null : ms(us)));
    return {
      calls: this.calls,
      clientErrors: this.refused,
      serverErrors: this.failed,
      p50Ms: p50 ?? null,
      p95Ms: p95 ?? null,
      p99Ms: p99 ?? null,
    };
  }
}

class RouteSum extends Sum {
  readonly statuses: Record<string, number> = {};

  constructor(
    readonly method: string,
    readonly route: string,
  ) {
    super();
  }
}

/** Sums a range by step and by route. */
export async function readUsage(db: EnvironmentDatabase, range: UsageRange, now: number): Promise<Usage> {
  const { from, until } = range;
  const stepMs = chooseStep(from, until);
  const start = Math.floor(from / stepMs) * stepMs;
  const steps = new Map(stepStarts(from, until, stepMs).map((at) => [at, new Sum()]));
  const routes = new Map<string, RouteSum>();
  for (const count of await readLongest(db, { ...range, from: start }, stepMs, now)) {
    const name = `${count.method} ${count.route}`;
    let route = routes.get(name);
    if (!route) routes.set(name, (route = new RouteSum(count.method, count.route)));
    route.statuses[count.status] = (route.statuses[count.status] ?? 0) + count.calls;
    route.add(count);
    steps.get(Math.floor(count.at.getTime() / stepMs) * stepMs)?.add(count);
  }
  const total = new Sum();
  for (const route of routes.values()) total.addAll(route);
  return {
    from: new Date(from).toISOString(),
    until: new Date(until).toISOString(),
    stepMs,
    total: total.present(),
    steps: [...steps].map(([at, sum]) => ({ at: new Date(at).toISOString(), ...sum.present() })),
    routes: [...routes.values()]
      .map((sum) => ({ method: sum.method, route: sum.route, ...sum.present(), statuses: sum.statuses }))
      .sort((a, b) => b.calls - a.calls),
  };
}

/** Hours and days are summed some minutes late, so what is younger than this comes from shorter steps. */
const SETTLED_MS = STEPS.hour;

/**
 * Counts of calls in the longest steps that fit: days, then hours, and minutes at the end.
 * @param from start of a step
 * @param longestMs the longest step that is of use
 */
export async function readLongest(
  db: EnvironmentDatabase,
  { from, until, client, route }: UsageRange,
  longestMs: number,
  now: number,
): Promise<PackedCount[]> {
  const parts: Promise<PackedCount[]>[] = [];
  let at = from;
  for (const step of ['day', 'hour', 'minute'] as const satisfies Step[]) {
    const stepMs = STEPS[step];
    if (stepMs > longestMs) continue;
    const settled = Math.floor(Math.min(until, now - SETTLED_MS) / stepMs) * stepMs;
    const end = step === 'minute' ? until : settled;
    if (end <= at) continue;
    parts.push(readPacked(db, step, at, end, { client, route, kind: 'call' }));
    at = end;
  }
  return (await Promise.all(parts)).flat();
}
