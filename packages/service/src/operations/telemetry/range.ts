/** The period that a call names. */
import { Problem } from '@orchard/contract';

const DAY_MS = 86_400_000;

/** Without `until` up to now, without `from` 24 hours. @throws {Problem} invalid-input */
export function demandRange(
  query: { from?: string | undefined; until?: string | undefined },
  now: number,
): { from: number; until: number } {
  const until = query.until ? Date.parse(query.until) : now;
  const from = query.from ? Date.parse(query.from) : until - DAY_MS;
  if (from < until) return { from, until };
  throw new Problem('invalid-input', '`from` must lie before `until`.', {
    fields: [{ path: 'query.from', problem: 'It is not before `until`.', expected: 'an earlier time' }],
  });
}
