/** The service's calls in the days of a chart of people, so that both stand on one time axis. */
import type { Usage } from '@orchard/contract';

export type CallsOfDay = { p95: number | null; failed: number | null };

/**
 * @param days starts of the days, in the environment's time zone
 * @param steps of the calls, shorter than a day
 * @returns one for each day: the highest p95 among its steps, since percentiles do not add up, and all its failed calls; null for
 *   a day without a step
 */
export function callsByDay(days: readonly string[], steps: Usage['steps']): CallsOfDay[] {
  const starts = days.map((day) => Date.parse(day));
  const out: CallsOfDay[] = days.map(() => ({ p95: null, failed: null }));
  let day = 0;
  for (const { at, p95Ms, serverErrors } of steps) {
    const time = Date.parse(at);
    while ((starts[day + 1] ?? Number.POSITIVE_INFINITY) <= time) day++;
    const sum = out[day];
    if (!sum || time < (starts[day] as number)) continue;
    if (p95Ms !== null) sum.p95 = Math.max(sum.p95 ?? 0, p95Ms);
    sum.failed = (sum.failed ?? 0) + serverErrors;
  }
  return out;
}

/** @returns null where no day is over yet */
export function meanOf(values: readonly number[]): number | null {
  return values.length === 0 ? null : values.reduce((sum, value) => sum + value, 0) / values.length;
}
