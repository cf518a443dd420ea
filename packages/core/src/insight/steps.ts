/** Steps of time by the calendar of a zone: hours, days, weeks from Monday, months. */
import { instantOf, wallMs } from '../messages/dueTimes.js';
import { DAY_MS } from './segment.js';
import type { CalendarStep } from './words.js';

const HOUR_MS = 3_600_000;
const MINUTE_MS = 60_000;

const dayOf = (wall: number): number => Math.floor(wall / DAY_MS) * DAY_MS;

function startOf(wall: number, step: CalendarStep): number {
  if (step === 'hour') return Math.floor(wall / HOUR_MS) * HOUR_MS;
  const day = dayOf(wall);
  if (step === 'day') return day;
  // 1 January 1970 was a Thursday.
  if (step === 'week') return day - ((day / DAY_MS + 3) % 7) * DAY_MS;
  const date = new Date(day);
  return Date.UTC(date.getUTCFullYear(), date.getUTCMonth(), 1);
}

function following(wall: number, step: CalendarStep): number {
  if (step !== 'month') return wall + { hour: HOUR_MS, day: DAY_MS, week: 7 * DAY_MS }[step];
  const date = new Date(wall);
  return Date.UTC(date.getUTCFullYear(), date.getUTCMonth() + 1, 1);
}

/** A step of the calendar, for a length such as 86,400,000 ms. */
export function calendarStep(stepMs: number): CalendarStep {
  if (stepMs < DAY_MS) return 'hour';
  if (stepMs < 7 * DAY_MS) return 'day';
  return stepMs < 28 * DAY_MS ? 'week' : 'month';
}

/** The step that divides a period into at most about a hundred parts. */
export function stepFor(from: number, until: number): CalendarStep {
  const days = (until - from) / DAY_MS;
  if (days <= 3) return 'hour';
  return days <= 100 ? 'day' : days <= 700 ? 'week' : 'month';
}

/** The starts of the steps that touch a period, as instants; the first may lie before it. */
export function stepsOf(from: number, until: number, step: CalendarStep, zone: string): number[] {
  const starts: number[] = [];
  for (let wall = startOf(wallMs(from, zone), step); ; wall = following(wall, step)) {
    const at = instantOf(wall, zone);
    if (at >= until) return starts;
    // An hour that a clock skips in spring is no step of its own.
    if (at !== starts.at(-1)) starts.push(at);
  }
}

/**
 * The number of the step of each minute of a day; -1 outside the period. All borders of zones lie on whole minutes; those of the
 * period need not, so times are compared with them as well.
 */
export function stepsByMinute(day: number, starts: readonly number[], { from, until }: { from: number; until: number }): Int32Array {
  const steps = new Int32Array(DAY_MS / MINUTE_MS).fill(-1);
  let step = starts.findLastIndex((start) => start <= day);
  for (let minute = 0; minute < steps.length; minute++) {
    const at = day + minute * MINUTE_MS;
    while (step + 1 < starts.length && (starts[step + 1] as number) <= at) step++;
    if (at + MINUTE_MS > from && at < until) steps[minute] = step;
  }
  return steps;
}
