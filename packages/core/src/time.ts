/** Dates and times as they are written: `2026-07-14` and RFC 3339 with a zone. */

const DATE = /^(\d{4})-(\d{2})-(\d{2})$/;
const TIME = /^(\d{4})-(\d{2})-(\d{2})T(\d{2}):(\d{2}):(\d{2})(?:\.\d{1,9})?(?:Z|[+-]\d{2}:\d{2})$/i;
/** What the database's DATETIME holds. */
const [EARLIEST, LATEST] = [Date.UTC(1000, 0, 1), Date.UTC(9999, 11, 31, 23, 59, 59, 999)];

const DAYS = [31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
const isLeap = (year: number) => (year % 4 === 0 && year % 100 !== 0) || year % 400 === 0;

/** Milliseconds since 1970 of a date's midnight in UTC; null where there is no such day. */
export function readDate(text: string): number | null {
  const parts = DATE.exec(text);
  if (!parts) return null;
  const [year, month, day] = [Number(parts[1]), Number(parts[2]), Number(parts[3])];
  if (year < 1000 || month < 1 || month > 12 || day < 1 || day > (DAYS[month - 1] as number)) return null;
  return month === 2 && day === 29 && !isLeap(year) ? null : Date.UTC(year, month - 1, day);
}

/** Milliseconds since 1970; parts of a millisecond are dropped. Null for a time that does not exist, or has no zone. */
export function readTime(text: string): number | null {
  const parts = TIME.exec(text);
  if (!parts || readDate(text.slice(0, 10)) === null) return null;
  if (Number(parts[4]) > 23 || Number(parts[5]) > 59 || Number(parts[6]) > 59) return null;
  const ms = Math.floor(Date.parse(text));
  return ms >= EARLIEST && ms <= LATEST ? ms : null;
}
