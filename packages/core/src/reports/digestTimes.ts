/** When a digest is due, and the period it speaks of, by the clock of its reader. */
import { instantOf, wallMs } from '../messages/dueTimes.js';

export const DIGEST_RHYTHMS = ['day', 'week', 'month'] as const;
export type DigestRhythm = (typeof DIGEST_RHYTHMS)[number];
export type DigestSchedule = {
  every: DigestRhythm;
  /** Local time of the day, `07:30`. */
  at: string;
  /** Of a weekly one: 1 is Monday, 7 is Sunday (ISO 8601). */
  weekday: number;
};

const DAY_MS = 86_400_000;
const MINUTE_MS = 60_000;
const dayOf = (wall: number): number => Math.floor(wall / DAY_MS) * DAY_MS;
/** ISO 8601 weekday of a day as wall time. 1 January 1970 was a Thursday. */
const weekdayOf = (day: number): number => ((Math.floor(day / DAY_MS) + 3) % 7) + 1;
const monthStart = (day: number, months = 0): number => {
  const date = new Date(day);
  return Date.UTC(date.getUTCFullYear(), date.getUTCMonth() + months, 1);
};

/** Start of the latest day, of the latest such weekday, or of the month, as wall time. */
function startOf(day: number, { every, weekday }: DigestSchedule): number {
  if (every === 'day') return day;
  if (every === 'month') return monthStart(day);
  return day - ((weekdayOf(day) - weekday + 7) % 7) * DAY_MS;
}

const following = (start: number, { every }: DigestSchedule): number =>
  every === 'month' ? monthStart(start, 1) : start + (every === 'week' ? 7 : 1) * DAY_MS;

/** The first time after an instant at which a digest is due. */
export function nextDigestAt(after: number, schedule: DigestSchedule, timeZone: string): number {
  const minutes = Number(schedule.at.slice(0, 2)) * 60 + Number(schedule.at.slice(3, 5));
  let start = startOf(dayOf(wallMs(after, timeZone)), schedule);
  for (;;) {
    const due = instantOf(start + minutes * MINUTE_MS, timeZone);
    if (due > after) return due;
    start = following(start, schedule);
  }
}

/** The whole day, seven days or month before a digest that is made at an instant, in the reader's zone. */
export function digestPeriod(at: number, schedule: DigestSchedule, timeZone: string): { from: number; until: number } {
  const end = startOf(dayOf(wallMs(at, timeZone)), schedule);
  const start = schedule.every === 'month' ? monthStart(end, -1) : end - (schedule.every === 'week' ? 7 : 1) * DAY_MS;
  return { from: instantOf(start, timeZone), until: instantOf(end, timeZone) };
}

const dayFormat = (timeZone: string, withYear: boolean) =>
  new Intl.DateTimeFormat('en-GB', { timeZone, day: 'numeric', month: 'short', ...(withYear ? { year: 'numeric' as const } : {}) });

/** `Wed 25 Nov 2026`, `16 to 22 Nov 2026`: the days of a period that begins and ends at midnight. */
export function periodWords(from: number, until: number, timeZone: string): string {
  const last = until - 1;
  const end = dayFormat(timeZone, true).format(last);
  return dayFormat(timeZone, true).format(from) === end ? end : `${dayFormat(timeZone, false).format(from)} to ${end}`;
}

/** `Wed 25 Nov 2026, 18:20`. */
export const momentWords = (at: number, timeZone: string): string =>
  new Intl.DateTimeFormat('en-GB', {
    timeZone,
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
  })
    .format(at)
    .replace(',', '');
