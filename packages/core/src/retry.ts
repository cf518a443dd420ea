/** When to try again after a failure. */

/**
 * Back-off before attempt `attempt + 1`: 2 s doubled each time, at most an hour, spread by up to a quarter.
 * @param attempt attempts made so far, from 1
 * @param random from 0 to 1
 * @returns milliseconds
 */
export function backOffMs(attempt: number, random: number): number {
  const base = Math.min(2_000 * 2 ** (attempt - 1), 3_600_000);
  return Math.round(base * (1 + random / 4));
}

/**
 * Reads Retry-After (RFC 9110 section 10.2.3): seconds, or an HTTP date.
 * @returns milliseconds from now, at least 0; null when absent or malformed
 */
export function readRetryAfter(header: string | undefined, nowMs: number): number | null {
  if (!header) return null;
  if (/^\d{1,9}$/.test(header.trim())) return Number(header.trim()) * 1000;
  const date = Date.parse(header);
  return Number.isNaN(date) ? null : Math.max(0, date - nowMs);
}
