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

export type UsageRange = {
  from: number;
  until: number;
  client?: string | undefined;
  route?: string | undefined;
  target?: string | undefined;
};

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
    readonly target: string,
  ) {
    super();
  }
}

type Summed = { total: Sum; steps: Map<number, Sum>; routes: Map<string, RouteSum> };

async function sumRange(db: EnvironmentDatabase, range: UsageRange, stepMs: number, now: number): Promise<Summed> {
  const { from, until } = range;
  const start = Math.floor(from / stepMs) * stepMs;
  const steps = new Map(stepStarts(from, until, stepMs).map((at) => [at, new Sum()]));
  const routes = new Map<string, RouteSum>();
  for (const count of await readLongest(db, { ...range, from: start }, stepMs, now)) {
    const name = `${count.method} ${count.route} ${count.target}`;
    let route = routes.get(name);
    if (!route) routes.set(name, (route = new RouteSum(count.method, count.route, count.target)));
    route.statuses[count.status] = (route.statuses[count.status] ?? 0) + count.calls;
    route.add(count);
    steps.get(Math.floor(count.at.getTime() / stepMs) * stepMs)?.add(count);
  }
  const total = new Sum();
  for (const route of routes.values()) total.addAll(route);
  return { total, steps, routes };
}

const presentSteps = (steps: ReadonlyMap<number, Sum>) =>
  [...steps].map(([at, sum]) => ({ at: new Date(at).toISOString(), ...sum.present() }));

/** Sums a range by step and by route. @param compare whether the period before is wanted, too */
export async function readUsage(db: EnvironmentDatabase, range: UsageRange, now: number, compare = false): Promise<Usage> {
  const { from, until } = range;
  const stepMs = chooseStep(from, until);
  const earlier = { ...range, from: from - (until - from), until: from };
  const [present, before] = await Promise.all([sumRange(db, range, stepMs, now), compare ? sumRange(db, earlier, stepMs, now) : null]);
  return {
    from: new Date(from).toISOString(),
    until: new Date(until).toISOString(),
    stepMs,
    total: present.total.present(),
    steps: presentSteps(present.steps),
    routes: [...present.routes]
      .map(([name, sum]) => ({
        method: sum.method,
        route: sum.route,
        target: sum.target || null,
        ...sum.present(),
        statuses: sum.statuses,
        ...(before ? { beforeP95Ms: before.routes.get(name)?.present().p95Ms ?? null } : {}),
      }))
      .sort((a, b) => b.calls - a.calls),
    ...(before
      ? {
          previous: {
            from: new Date(earlier.from).toISOString(),
            until: new Date(earlier.until).toISOString(),
            total: before.total.present(),
            steps: presentSteps(before.steps),
          },
        }
      : {}),
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
  { from, until, client, route, target }: UsageRange,
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
    parts.push(readPacked(db, step, at, end, { client, route, target, kind: 'call' }));
    at = end;
  }
  return (await Promise.all(parts)).flat();
}
