/** Which backups are kept: the newest of each of the last days, weeks and months. */

/** How many days, weeks and months back one backup of each is kept. */
export type KeepingRule = { days: number; weeks: number; months: number };
export type Dated = { id: string; at: number };

const DAY_MS = 86_400_000;
/** 1970-01-01 was a Thursday; weeks begin on Monday (ISO 8601). */
const MONDAY = 3;

const dayOf = (at: number): number => Math.floor(at / DAY_MS);
const weekOf = (at: number): number => Math.floor((dayOf(at) + MONDAY) / 7);
function monthOf(at: number): number {
  const date = new Date(at);
  return date.getUTCFullYear() * 12 + date.getUTCMonth();
}

/**
 * The backups that the rule keeps; times are in UTC. The newest one is always kept, whatever its age: a rule never leaves an
 * environment without any.
 * @param now milliseconds since 1970
 * @returns their ids
 */
export function keptBackups(backups: readonly Dated[], { days, weeks, months }: KeepingRule, now: number): Set<string> {
  const newestFirst = [...backups].sort((a, b) => b.at - a.at);
  const kept = new Set(newestFirst.slice(0, 1).map(({ id }) => id));
  for (const [spanOf, count] of [
    [dayOf, days],
    [weekOf, weeks],
    [monthOf, months],
  ] as const) {
    const seen = new Set<number>();
    for (const { id, at } of newestFirst) {
      const span = spanOf(at);
      if (spanOf(now) - span >= count || seen.has(span)) continue;
      seen.add(span);
      kept.add(id);
    }
  }
  return kept;
}
