/**
 * Writes that may be repeated: for a day, a call with the same Idempotency-Key gets the same response and is not executed
 * again.
 */
import { createHash } from 'node:crypto';
import { Problem } from '@orchard/contract';
import { lt } from 'drizzle-orm';
import type { Statements } from '../database/connection.js';
import type { EnvironmentDatabase } from '../database/environmentDatabase.js';
import type { Answer, Call, Environment } from '../call.js';
import { environmentOf } from '../call.js';
import { answerTable } from './tables.js';

type Row = { fingerprint: string; status: number; headers: Record<string, string> | string | null; body: string | null };

const digest = (...parts: string[]) => createHash('sha256').update(JSON.stringify(parts)).digest('base64url');

/** The caller's key, if the call carries one. @throws {Problem} invalid-input */
export function idempotencyKey(call: Pick<Call, 'headers'>): string | null {
  const key = call.headers['idempotency-key'];
  if (key === undefined) return null;
  if (typeof key === 'string' && /^[\x21-\x7e]{8,200}$/.test(key)) return key;
  throw new Problem('invalid-input', 'An Idempotency-Key must be 8 to 200 visible ASCII characters, such as a UUID.', {
    fields: [{ path: 'headers.Idempotency-Key', problem: 'It is not a key.', expected: '8 to 200 visible ASCII characters' }],
  });
}

/**
 * Does the work unless it was done before; the response is stored in the work's own transaction, so that neither exists
 * without the other. A second call waits while the first is in flight.
 */
export async function answerOnce<Body>(
  on: Statements,
  call: Call,
  key: string,
  at: Date,
  work: () => Promise<Answer<Body>>,
): Promise<Answer<Body>> {
  const { db } = environmentOf(call);
  const { name, fingerprint } = marksOf(call, key);
  const { affectedRows } = await on.change(
    `INSERT IGNORE INTO ${db.of(answerTable)} (\`key\`, fingerprint, status, at) VALUES (?, ?, 0, ?)`,
    [name, fingerprint, at],
  );
  if (affectedRows === 0) return replay<Body>(on, db, name, fingerprint);
  const answer = await work();
  await on.change(`UPDATE ${db.of(answerTable)} SET status = ?, headers = ?, body = ? WHERE \`key\` = ?`, [
    answer.status ?? call.operation.status,
    JSON.stringify(answer.headers ?? {}),
    answer.body === undefined ? null : JSON.stringify(answer.body),
    name,
  ]);
  return answer;
}

/** The response of an earlier call that has ended, for work that is not to be begun twice; null if there is none. */
export async function answeredBefore(db: EnvironmentDatabase, call: Call, key: string): Promise<Answer<unknown> | null> {
  const { name, fingerprint } = marksOf(call, key);
  const [known] = await db.rows<{ status: number }>(`SELECT status FROM ${db.of(answerTable)} WHERE \`key\` = ?`, [name]);
  return known ? replay(db, db, name, fingerprint) : null;
}

function marksOf(call: Call, key: string): { name: string; fingerprint: string } {
  const owner = call.holder?.key.id ?? call.member?.id ?? '';
  return {
    name: digest(owner, call.user?.id ?? '', key),
    fingerprint: digest(call.operation.id, call.request.originalUrl, JSON.stringify(call.body ?? null)),
  };
}

async function replay<Body>(on: Statements, db: EnvironmentDatabase, name: string, fingerprint: string): Promise<Answer<Body>> {
  // The locking read sees what the other call has committed meanwhile.
  const [row] = await on.rows<Row>(
    `SELECT fingerprint, status, headers, body FROM ${db.of(answerTable)} WHERE \`key\` = ? LOCK IN SHARE MODE`,
    [name],
  );
  if (!row) throw new Problem('unexpected', 'The first call with this Idempotency-Key did not finish. Send it again.');
  if (row.fingerprint !== fingerprint)
    throw new Problem('key-reused', 'This Idempotency-Key was used for another call. Use a new key for every new call.');
  const headers = typeof row.headers === 'string' ? JSON.parse(row.headers) : (row.headers ?? {});
  return { status: row.status, headers, body: (row.body === null ? undefined : JSON.parse(row.body)) as Body };
}

/** Deletes responses that can no longer be repeated. */
export async function forgetAnswers({ db }: Environment, before: Date): Promise<void> {
  const answers = db.table(answerTable);
  await db.orm.delete(answers).where(lt(answers.at, before));
}
