/** API use: sums of calls over time and by route. */
import type { Usage } from '@orchard/contract';
import { addTally, chooseStep, type Count, emptyTally, quantiles, STEPS, type Step, stepStarts, type Tally, tallyOf } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { readCounts } from './countStore.js';

export type UsageRange = { from: number; until: number; client?: string | undefined; route?: string | undefined };

const NONE: readonly string[] = [];
const ms = (us: number) => Math.round(us) / 1000;

export function presentTally({ calls, refused, failed, histogram }: Tally) {
  const [p50, p95, p99] = quantiles(histogram, [0.5, 0.95, 0.99]).map((us) => (us === null ? null : ms(us)));
  return { calls, clientErrors: refused, serverErrors: failed, p50Ms: p50 ?? null, p95Ms: p95 ?? null, p99Ms: p99 ?? null };
}

/** Sums a range by step and by route. */
export async function readUsage(db: EnvironmentDatabase, range: UsageRange, now: number): Promise<Usage> {
  const { from, until } = range;
  const stepMs = chooseStep(from, until);
  const start = Math.floor(from / stepMs) * stepMs;
  const total = emptyTally();
  const steps = new Map(stepStarts(from, until, stepMs).map((at) => [at, emptyTally()]));
  const routes = new Map<string, RouteSum>();
  for (const count of await readLongest(db, { ...range, from: start }, stepMs, now)) {
    const tally = tallyOf(count, NONE);
    const name = `${count.method} ${count.route}`;
    let sum = routes.get(name);
    if (!sum) routes.set(name, (sum = { count, tally: emptyTally(), statuses: {} }));
    sum.statuses[count.status] = (sum.statuses[count.status] ?? 0) + count.calls;
    addTally(sum.tally, tally);
    addTally(total, tally);
    const step = steps.get(Math.floor(count.at / stepMs) * stepMs);
    if (step) addTally(step, tally);
  }
  return {
    from: new Date(from).toISOString(),
    until: new Date(until).toISOString(),
    stepMs,
    total: presentTally(total),
    steps: [...steps].map(([at, sum]) => ({ at: new Date(at).toISOString(), ...presentTally(sum) })),
    routes: [...routes.values()]
      .map(({ count, tally, statuses }) => ({ method: count.method, route: count.route, ...presentTally(tally), statuses }))
      .sort((a, b) => b.calls - a.calls),
  };
}
type RouteSum = { count: Count; tally: Tally; statuses: Record<string, number> };

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
): Promise<Count[]> {
  const parts: Promise<Count[]>[] = [];
  let at = from;
  for (const step of ['day', 'hour', 'minute'] as const satisfies Step[]) {
    const stepMs = STEPS[step];
    if (stepMs > longestMs) continue;
    const settled = Math.floor(Math.min(until, now - SETTLED_MS) / stepMs) * stepMs;
    const end = step === 'minute' ? until : settled;
    if (end <= at) continue;
    parts.push(readCounts(db, step, at, end, { client, route, kind: 'call' }));
    at = end;
  }
  return (await Promise.all(parts)).flat();
}
