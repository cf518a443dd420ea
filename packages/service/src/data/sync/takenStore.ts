/** Changes of devices that were taken, as rows. Raw SQL: many are claimed and noted at once. */
import type { FieldConflict } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { takenChangeTable } from './tables.js';

export type TakenChange = { id: string; by: string; version: number | null; conflicts: FieldConflict[] | null };
const END_AT_ONCE = 10_000;

/** Those of some changes that were taken before. */
export async function takenAmong(on: Statements, { db }: Environment, ids: readonly string[]): Promise<Map<string, TakenChange>> {
  const rows = await on.runRows<TakenChange>(`SELECT id, \`by\`, version, conflicts FROM ${db.of(takenChangeTable)} WHERE id IN (?)`, [
    ids,
  ]);
  return new Map(rows.map((row) => [row.id, { ...row, conflicts: row.conflicts && storedJson(row.conflicts as never) }]));
}

/**
 * Notes changes as taken, in the transaction that stores them.
 * @throws a duplicate, where another call has taken one of them meanwhile
 */
export async function noteTaken(on: Statements, { db }: Environment, taken: readonly TakenChange[], at: Date): Promise<void> {
  if (taken.length === 0) return;
  const rows = taken.map(({ id, by, version, conflicts }) => [id, by, version, conflicts && JSON.stringify(conflicts), at]);
  await on.run(`INSERT INTO ${db.of(takenChangeTable)} (id, \`by\`, version, conflicts, at) VALUES ?`, [rows]);
}

export async function endTaken({ db }: Environment, before: Date): Promise<void> {
  const sql = `DELETE FROM ${db.of(takenChangeTable)} WHERE at < ? ORDER BY at LIMIT ${END_AT_ONCE}`;
  while ((await db.change(sql, [before])).affectedRows === END_AT_ONCE);
}
