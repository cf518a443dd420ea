/** API use: sums of calls over time and by route. */
import type { Usage, UsageSplit } from '@orchard/contract';
import {
  addPacked,
  type CallerKind,
  chooseStep,
  denseHistogram,
  featureOf,
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

/** Lines of a chart that are told apart by colour, besides that of the others. */
const MOST_PARTS = 4;

export type UsageRange = {
  from: number;
  until: number;
  client?: string | undefined;
  route?: string | undefined;
  target?: string | undefined;
  by?: UsageSplit | undefined;
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

/** One line of a chart: what one client called, or all calls from one country. */
class PartSum extends Sum {
  readonly steps: Map<number, Sum>;

  constructor(
    readonly name: string | null,
    starts: readonly number[],
    readonly others = false,
  ) {
    super();
    this.steps = new Map(starts.map((at) => [at, new Sum()]));
  }

  addPart(part: PartSum): void {
    this.addAll(part);
    for (const [at, sum] of part.steps) this.steps.get(at)?.addAll(sum);
  }
}

type Summed = { total: Sum; steps: Map<number, Sum>; routes: Map<string, RouteSum>; parts: PartSum[] };

const wholeSteps = ({ from, until }: UsageRange, stepMs: number) => ({ from: Math.floor(from / stepMs) * stepMs, until });

async function sumRange(db: EnvironmentDatabase, range: UsageRange, stepMs: number, now: number): Promise<Summed> {
  const starts = stepStarts(range.from, range.until, stepMs);
  const steps = new Map(starts.map((at) => [at, new Sum()]));
  const routes = new Map<string, RouteSum>();
  const counts = await readLongest(db, { ...range, ...wholeSteps(range, stepMs) }, stepMs, now);
  for (const count of counts) {
    const name = `${count.method} ${count.route} ${count.target}`;
    let route = routes.get(name);
    if (!route) routes.set(name, (route = new RouteSum(count.method, count.route, count.target)));
    route.statuses[count.status] = (route.statuses[count.status] ?? 0) + count.calls;
    route.add(count);
    steps.get(Math.floor(count.at.getTime() / stepMs) * stepMs)?.add(count);
  }
  const total = new Sum();
  for (const route of routes.values()) total.addAll(route);
  return { total, steps, routes, parts: await sumParts(db, range, counts, { starts, stepMs, now }) };
}

type Steps = { starts: readonly number[]; stepMs: number; now: number };

/** The lines of a split; the smallest of many as one. */
async function sumParts(db: EnvironmentDatabase, range: UsageRange, calls: readonly PackedCount[], { starts, stepMs, now }: Steps) {
  const { by } = range;
  if (!by) return [];
  const isOfCallers = by === 'version' || by === 'country';
  const counts = isOfCallers ? await readLongest(db, { ...range, ...wholeSteps(range, stepMs) }, stepMs, now, by) : calls;
  const nameOf = (count: PackedCount) => {
    if (isOfCallers) return count.route || null;
    return (by === 'feature' ? featureOf(count.route, count.target) : String(count[by])) || null;
  };
  const parts = new Map<string | null, PartSum>();
  for (const count of counts) {
    const name = nameOf(count);
    let part = parts.get(name);
    if (!part) parts.set(name, (part = new PartSum(name, starts)));
    part.add(count);
    part.steps.get(Math.floor(count.at.getTime() / stepMs) * stepMs)?.add(count);
  }
  const ranked = [...parts.values()].sort((a, b) => b.calls - a.calls);
  if (ranked.length <= MOST_PARTS + 1) return ranked;
  const others = new PartSum(null, starts, true);
  for (const part of ranked.slice(MOST_PARTS)) others.addPart(part);
  return [...ranked.slice(0, MOST_PARTS), others];
}

const presentSteps = (steps: ReadonlyMap<number, Sum>) =>
  [...steps].map(([at, sum]) => ({ at: new Date(at).toISOString(), ...sum.present() }));

/** Sums a range by step and by route. @param compare whether the period before is wanted, too */
export async function readUsage(db: EnvironmentDatabase, range: UsageRange, now: number, compare = false): Promise<Usage> {
  const { from, until } = range;
  const stepMs = chooseStep(from, until);
  const earlier = { ...range, from: from - (until - from), until: from };
  const [present, before] = await Promise.all([
    sumRange(db, range, stepMs, now),
    compare ? sumRange(db, { ...earlier, by: undefined }, stepMs, now) : null,
  ]);
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
    ...(range.by
      ? {
          parts: present.parts.map((part) => ({
            name: part.name,
            others: part.others,
            ...part.present(),
            steps: presentSteps(part.steps),
          })),
        }
      : {}),
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
 * @param kind by route, or by what called
 */
export async function readLongest(
  db: EnvironmentDatabase,
  { from, until, client, route, target }: UsageRange,
  longestMs: number,
  now: number,
  kind: 'call' | CallerKind = 'call',
): Promise<PackedCount[]> {
  const parts: Promise<PackedCount[]>[] = [];
  let at = from;
  for (const step of ['day', 'hour', 'minute'] as const satisfies Step[]) {
    const stepMs = STEPS[step];
    if (stepMs > longestMs) continue;
    const settled = Math.floor(Math.min(until, now - SETTLED_MS) / stepMs) * stepMs;
    const end = step === 'minute' ? until : settled;
    if (end <= at) continue;
    parts.push(readPacked(db, step, at, end, { client, route, target, kind }));
    at = end;
  }
  return (await Promise.all(parts)).flat();
}
