/** Packed days, as rows. Raw SQL: large values that no builder needs to see. */
import type { Statements } from '../../platform/database/connection.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { eventColumnTable, eventDayTable } from './tables.js';

export type PackedDayRow = { day: string; version: number; rows: number };

export const dayName = (at: number): string => new Date(at).toISOString().slice(0, 10);

/** The packed days that touch a period. */
export function packedDays(db: EnvironmentDatabase, from: number, until: number): Promise<PackedDayRow[]> {
  return db.runRows(
    `SELECT DATE_FORMAT(day, '%Y-%m-%d') AS day, version, \`rows\` FROM ${db.of(eventDayTable)} WHERE day >= ? AND day <= ? ORDER BY day`,
    [dayName(from), dayName(until - 1)],
  );
}

/** Columns of a day, deflated. @param names which; all without */
export async function readColumns(db: EnvironmentDatabase, day: string, names?: readonly string[]): Promise<Map<string, Buffer>> {
  const rows = await db.runRows<{ name: string; bytes: Buffer }>(
    `SELECT name, bytes FROM ${db.of(eventColumnTable)} WHERE day = ? ${names ? 'AND name IN (?)' : ''}`,
    names ? [day, names] : [day],
  );
  return new Map(rows.map(({ name, bytes }) => [name, bytes]));
}

/** Writes a day anew. @param before the version it was made from; null for none @returns whether that was still there */
export async function writeDay(
  db: EnvironmentDatabase,
  on: Statements,
  { day, rows, columns }: { day: string; rows: number; columns: ReadonlyMap<string, Buffer> },
  before: number | null,
): Promise<boolean> {
  const { affectedRows } =
    before === null
      ? await on.run(`INSERT IGNORE INTO ${db.of(eventDayTable)} (day, version, \`rows\`) VALUES (?, 1, ?)`, [day, rows])
      : await on.run(`UPDATE ${db.of(eventDayTable)} SET version = version + 1, \`rows\` = ? WHERE day = ? AND version = ?`, [
          rows,
          day,
          before,
        ]);
  if (affectedRows !== 1) return false;
  await on.run(`DELETE FROM ${db.of(eventColumnTable)} WHERE day = ?`, [day]);
  for (const [name, bytes] of columns)
    await on.run(`INSERT INTO ${db.of(eventColumnTable)} (day, name, bytes) VALUES (?, ?, ?)`, [day, name, bytes]);
  return true;
}

export async function forgetDays(db: EnvironmentDatabase, before: string): Promise<void> {
  await db.run(`DELETE FROM ${db.of(eventColumnTable)} WHERE day < ?`, [before]);
  await db.run(`DELETE FROM ${db.of(eventDayTable)} WHERE day < ?`, [before]);
}
