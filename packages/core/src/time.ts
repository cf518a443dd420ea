/** Dates and times as they are written: `2026-07-14` and RFC 3339 with a zone. */

const DATE = /^(\d{4})-(\d{2})-(\d{2})$/;
const TIME = /^(\d{4})-(\d{2})-(\d{2})T(\d{2}):(\d{2}):(\d{2})(?:\.\d{1,9})?(?:Z|[+-]\d{2}:\d{2})$/i;
/** What the database's DATETIME holds. */
const [EARLIEST, LATEST] = [Date.UTC(1000, 0, 1), Date.UTC(9999, 11, 31, 23, 59, 59, 999)];

/** Milliseconds since 1970 of a date's midnight in UTC; null where there is no such day. */
export function readDate(text: string): number | null {
  const [, year, month, day] = (DATE.exec(text) ?? []).map(Number);
  if (year === undefined || year < 1000) return null;
  const ms = Date.UTC(year, (month as number) - 1, day);
  return new Date(ms).toISOString().startsWith(text) ? ms : null;
}

/** Milliseconds since 1970; parts of a millisecond are dropped. Null for a time that does not exist, or has no zone. */
export function readTime(text: string): number | null {
  const parts = TIME.exec(text);
  if (!parts || readDate(text.slice(0, 10)) === null) return null;
  if (Number(parts[4]) > 23 || Number(parts[5]) > 59 || Number(parts[6]) > 59) return null;
  const ms = Math.floor(Date.parse(text.toUpperCase()));
  return ms >= EARLIEST && ms <= LATEST ? ms : null;
}
