/** When a message is due in each time zone: wall-clock times, and quiet hours. */

/** A wall-clock time, `2026-12-24T18:00`. */
export type LocalTime = string;
/** From and to, `22:00` and `07:30`, in the recipient's zone; over midnight when `from` is later. */
export type QuietHours = { from: string; to: string };

const formats = new Map<string, Intl.DateTimeFormat>();
function formatOf(timeZone: string): Intl.DateTimeFormat {
  let format = formats.get(timeZone);
  if (!format) {
    format = new Intl.DateTimeFormat('en-GB', {
      timeZone,
      hourCycle: 'h23',
      year: 'numeric',
      month: '2-digit',
      day: '2-digit',
      hour: '2-digit',
      minute: '2-digit',
      second: '2-digit',
    });
    formats.set(timeZone, format);
  }
  return format;
}

/** The wall clock of a zone at an instant, as if it were UTC (milliseconds). */
export function wallMs(at: number, timeZone: string): number {
  const part = Object.fromEntries(
    formatOf(timeZone)
      .formatToParts(at)
      .map(({ type, value }) => [type, Number(value)]),
  );
  return (
    Date.UTC(part.year as number, (part.month as number) - 1, part.day, part.hour, part.minute, part.second) + (((at % 1000) + 1000) % 1000)
  );
}

/**
 * The instant at which a zone's clock shows a wall time. A time that the clock skips in spring is moved on by the
 * hour that is skipped; of one that comes twice in autumn, the first is taken.
 */
export function instantOf(wall: number, timeZone: string): number {
  const offsets = [wall - 86_400_000, wall + 86_400_000].map((at) => wallMs(at, timeZone) - at);
  const candidates = offsets.map((offset) => wall - offset).filter((at) => wallMs(at, timeZone) === wall);
  return candidates.length ? Math.min(...candidates) : wall - (offsets[0] as number);
}

const DAY_MS = 86_400_000;
const minutesOf = (clock: string) => Number(clock.slice(0, 2)) * 60 + Number(clock.slice(3, 5));

/** The first instant from `at` on that is outside the quiet hours of a zone. */
export function afterQuiet(at: number, quiet: QuietHours, timeZone: string): number {
  const wall = wallMs(at, timeZone);
  const [from, to] = [minutesOf(quiet.from), minutesOf(quiet.to)];
  const minute = Math.floor((wall - Math.floor(wall / DAY_MS) * DAY_MS) / 60_000);
  const within = from <= to ? minute >= from && minute < to : minute >= from || minute < to;
  if (!within || from === to) return at;
  const day = Math.floor(wall / DAY_MS) + (from > to && minute >= from ? 1 : 0);
  return instantOf(day * DAY_MS + to * 60_000, timeZone);
}

/** When a message for a zone is due: at its local time if one is set (at once when that is past), and not in quiet hours. */
export function dueAt(now: number, timeZone: string, options: { local?: LocalTime | undefined; quiet?: QuietHours | undefined }): number {
  const wanted = options.local ? Math.max(now, instantOf(Date.parse(`${options.local}Z`), timeZone)) : now;
  return options.quiet ? afterQuiet(wanted, options.quiet, timeZone) : wanted;
}
