/** What servers of others answer, as problems. */
import { Problem } from '@orchard/contract';
import { STATEMENT_MS } from './connection.js';

type Thrown = { code?: string; errno?: number; message?: string };
/** By the numbers of MariaDB and the codes of PostgreSQL (appendix A of its manual). */
const GONE = new Set<unknown>([1054, 1146, 1356, '42703', '42P01']);
const SLOW = new Set<unknown>([1969, 3024, '57014']);
const FORBIDDEN = new Set<unknown>([1044, 1045, 1142, 1143, 1227, 1698, '42501', '28P01', '28000']);
const TWIN = new Set<unknown>([1062, '23505']);
/** Values that the table does not take: missing, of another type, too long, out of range, without their counterpart. */
const UNFIT = new Set<unknown>([
  1048,
  1264,
  1265,
  1292,
  1364,
  1366,
  1406,
  1451,
  1452,
  3819,
  4025,
  '22001',
  '22003',
  '22007',
  '22008',
  '22P02',
  '23502',
  '23503',
  '23514',
  '42804',
]);

const isOne = (codes: ReadonlySet<unknown>, { errno, code }: Thrown): boolean => codes.has(errno) || codes.has(code);
/** A key that cannot be one of the column's type is nobody's. */
export const isNoKey = (error: unknown): boolean => ['22P02', '22003'].includes((error as Thrown).code ?? '');

/** @param slow what makes a statement on this table slow, in words */
export function outsideProblem(error: unknown, server: string, slow = ''): unknown {
  if (error instanceof Problem || !(error instanceof Error)) return error;
  const thrown = error as Thrown;
  const said = (thrown.message ?? '').replace(/\s+/g, ' ').slice(0, 300);
  if (isOne(TWIN, thrown)) return new Problem('already-exists', `The outside server ${server} has such a row already: ${said}.`);
  if (isOne(UNFIT, thrown)) return new Problem('invalid-input', `The outside server ${server} does not take this: ${said}.`);
  if (isOne(GONE, thrown)) return new Problem('outside-changed', `A column or table that was there is not any more: ${said}.`);
  if (isOne(FORBIDDEN, thrown)) return new Problem('outside-unavailable', `The outside server ${server} does not allow this: ${said}.`);
  if (isOne(SLOW, thrown) || /query read timeout|max_statement_time/i.test(said))
    return new Problem('outside-unavailable', `The outside server ${server} took longer than ${STATEMENT_MS / 1000} s. ${slow}`.trim());
  // Drivers' errors have a code; ours do not.
  return thrown.code !== undefined || thrown.errno !== undefined || /timeout|terminated|ECONN|closed/i.test(said)
    ? new Problem('outside-unavailable', `The outside server ${server} cannot be reached: ${said || thrown.code}.`)
    : error;
}
