/** Counted sets of people, as rows. Raw SQL: bulk writes, and a condition that stands in other statements. */
import { createHash } from 'node:crypto';
import type { Behaviour, TimesAnswer } from '@orchard/core/insight';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { SqlCondition } from '../../platform/database/sqlCondition.js';
import { devicePersonTable, personTable } from '../events/tables.js';
import { behaviourTable, behaviourTimesTable } from './tables.js';

export type BehaviourRow = typeof behaviourTable.$inferSelect;
const AT_ONCE = 5_000;

export const hashOf = ({ event, days, filter }: Behaviour): string =>
  createHash('sha256')
    .update(JSON.stringify([event, days, filter]))
    .digest('hex')
    .slice(0, 32);

/** The finished sets, the latest of each behaviour, by hash. */
export async function latestSets(db: EnvironmentDatabase): Promise<Map<string, BehaviourRow>> {
  const rows = await db.runRows<BehaviourRow>(`SELECT * FROM ${db.of(behaviourTable)} WHERE countedAt IS NOT NULL ORDER BY number`);
  return new Map(rows.map((row) => [row.hash, row]));
}

/** Writes a set; it holds once it is whole, and those before it go. */
export async function writeSet(
  db: EnvironmentDatabase,
  behaviour: Behaviour,
  { people, times }: TimesAnswer,
  at: { used: Date; counted: Date },
): Promise<void> {
  const hash = hashOf(behaviour);
  const { event, days, filter } = behaviour;
  const { insertId } = await db.run(`INSERT INTO ${db.of(behaviourTable)} (hash, event, days, filter, usedAt) VALUES (?)`, [
    [hash, event, days, filter, at.used],
  ]);
  for (let from = 0; from < people.length; from += AT_ONCE) {
    const rows = Array.from(people.subarray(from, from + AT_ONCE), (person, i) => [insertId, person, times[from + i]]);
    await db.run(`INSERT INTO ${db.of(behaviourTimesTable)} (behaviour, person, times) VALUES ?`, [rows]);
  }
  await db.run(`UPDATE ${db.of(behaviourTable)} SET countedAt = ? WHERE number = ?`, [at.counted, insertId]);
  await removeSets(db, 'hash = ? AND number < ? AND countedAt IS NOT NULL', [hash, insertId]);
}

export async function noteUse(db: EnvironmentDatabase, hashes: readonly string[], now: Date): Promise<void> {
  if (hashes.length > 0) await db.run(`UPDATE ${db.of(behaviourTable)} SET usedAt = ? WHERE hash IN (?)`, [now, hashes]);
}

/** Sets nobody has used since, finished or left behind by an instance that ended. */
export const forgetSets = (db: EnvironmentDatabase, unusedSince: Date): Promise<void> => removeSets(db, 'usedAt < ?', [unusedSince]);

async function removeSets(db: EnvironmentDatabase, condition: string, values: unknown[]): Promise<void> {
  const rows = await db.runRows<{ number: number }>(`SELECT number FROM ${db.of(behaviourTable)} WHERE ${condition}`, values);
  if (rows.length === 0) return;
  const numbers = rows.map(({ number }) => number);
  await db.run(`DELETE FROM ${db.of(behaviourTable)} WHERE number IN (?)`, [numbers]);
  await db.run(`DELETE FROM ${db.of(behaviourTimesTable)} WHERE behaviour IN (?)`, [numbers]);
}

/** How often whoever uses device `v` now did it, as a number. */
export function timesSql(db: EnvironmentDatabase, behaviour: Behaviour): SqlCondition {
  const hash = hashOf(behaviour);
  const current = `(SELECT MAX(number) FROM ${db.of(behaviourTable)} WHERE hash = ? AND countedAt IS NOT NULL)`;
  const times = `SELECT t.times FROM ${db.of(behaviourTimesTable)} t`;
  return {
    sql: `COALESCE(IF(v.userId IS NULL,
      (${times} JOIN ${db.of(devicePersonTable)} d ON d.person = t.person WHERE d.deviceId = v.id AND t.behaviour = ${current}),
      (${times} JOIN ${db.of(personTable)} p ON p.number = t.person WHERE p.userId = v.userId AND t.behaviour = ${current})), 0)`,
    values: [hash, hash],
  };
}
