/** When a standing notification is due: so long before, or after, a date or a time that stands in a record. */
import { readDate, readTime } from '../time.js';
import { instantOf } from './dueTimes.js';

/** Days before a date, at a wall-clock time; or minutes before a time. Negative ones are after it. */
export type StandingTime = { daysBefore: number; at: string } | { minutesBefore: number };

const DAY_MS = 86_400_000;
const minutesOf = (clock: string): number => Number(clock.slice(0, 2)) * 60 + Number(clock.slice(3, 5));

/**
 * The instant for a value, in a time zone; a wall-clock time that a change of clocks skips counts from before it.
 * @param value a date as `2026-07-14`, or a time (RFC 3339)
 * @returns milliseconds since 1970; null for what is neither
 */
export function standingDue(when: StandingTime, value: string, timeZone: string): number | null {
  if ('minutesBefore' in when) {
    const time = readTime(value);
    return time === null ? null : time - when.minutesBefore * 60_000;
  }
  const day = readDate(value);
  return day === null ? null : instantOf(day - when.daysBefore * DAY_MS + minutesOf(when.at) * 60_000, timeZone);
}

/** The offsets from UTC that clocks have anywhere are within these. */
const [MOST_BEHIND_MS, MOST_AHEAD_MS] = [12 * 3_600_000, 14 * 3_600_000];

/** Dates that may be due between two instants in some zone, the first first. */
export function datesDue({ daysBefore, at }: Extract<StandingTime, { at: string }>, after: number, until: number): string[] {
  const shift = daysBefore * DAY_MS - minutesOf(at) * 60_000;
  const [first, last] = [after - MOST_BEHIND_MS + shift, until + MOST_AHEAD_MS + shift].map((ms) => Math.floor(ms / DAY_MS)) as [
    number,
    number,
  ];
  return Array.from({ length: last - first + 1 }, (_, i) => new Date((first + i) * DAY_MS).toISOString().slice(0, 10));
}
