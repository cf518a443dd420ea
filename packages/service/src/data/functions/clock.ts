/** The clock of schedules: cron expressions in time zones. */
import { Problem } from '@orchard/contract';
import { Cron } from 'croner';

/** Later than this, a run counts as missed: no instance was up. */
const LATE_MS = 90_000;
/** The most missed runs that are made up for. */
const MOST_MISSED = 100;

/** A cron expression, and the time zone in which it is read; UTC without one. */
export type Clock = { clock: string | null; zone: string | null };

/** @throws {Problem} invalid-input, at `body.clock` or `body.zone` */
export function demandClock({ clock, zone }: Clock): void {
  if (zone && !isZone(zone))
    throw new Problem('invalid-input', `There is no time zone ${zone}.`, {
      fields: [{ path: 'body.zone', problem: 'It is no time zone.', expected: 'a name such as Europe/Oslo, or none for UTC' }],
    });
  const wrong = clockProblem({ clock, zone });
  if (wrong)
    throw new Problem('invalid-input', `The clock ${clock} cannot be read: ${wrong}`, {
      fields: [
        { path: 'body.clock', problem: wrong, expected: 'minute, hour, day of the month, month and day of the week, such as 0 6 * * 1-5' },
      ],
    });
}

function isZone(zone: string): boolean {
  try {
    new Intl.DateTimeFormat('en', { timeZone: zone });
    return true;
  } catch {
    return false;
  }
}

function clockProblem(clock: Clock): string | null {
  try {
    return nextOf(clock, new Date(0)) ? null : 'It never comes.';
  } catch (error) {
    return `${(error as Error).message.replace(/^CronPattern: /, '').replace(/\.$/, '')}.`;
  }
}

/** The next time after `from`; null if there is none. In a night that loses an hour, what is in that hour comes after it. */
export const nextOf = ({ clock, zone }: Clock, from: Date): Date | null =>
  new Cron(clock as string, { timezone: zone ?? 'UTC', paused: true, mode: '5-part' }).nextRun(from);

/** The times after `from` up to `to`: at most `most`, the latest of them. */
export function timesBetween(clock: Clock, from: Date, to: Date, most = MOST_MISSED): Date[] {
  const times: Date[] = [];
  for (let at = nextOf(clock, from); at && at <= to; at = nextOf(clock, at)) {
    times.push(at);
    if (times.length > most) times.shift();
  }
  return times;
}

/** When a schedule has to run now, for which times. @param due when it was to run @param now when it is run */
export function dueTimes(row: Clock & { missed: string | null }, due: Date, now: Date): Date[] {
  const isLate = now.getTime() - due.getTime() > LATE_MS;
  if (!isLate) return [due];
  const missed = [due, ...timesBetween(row, due, now)];
  const isFresh = (at: Date) => now.getTime() - at.getTime() <= LATE_MS;
  if (row.missed === 'each') return missed.slice(-MOST_MISSED);
  if (row.missed === 'skip') return missed.slice(-1).filter(isFresh);
  return missed.slice(-1);
}
