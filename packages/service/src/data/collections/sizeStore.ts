/** Sizes of collections by day, to show their growth. */
import type { Environment } from '../../platform/call.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { Parts } from './parts.js';
import { readSizes } from './catalogueStore.js';
import { sizeTable } from './tables.js';

const DAYS = 7;
const DAY_MS = 86_400_000;
const dayOf = (ms: number) => new Date(ms).toISOString().slice(0, 10);

/** Notes today's sizes. */
export async function noteSizes(parts: Parts, environment: Environment): Promise<void> {
  const names = (await parts.catalogue.all(environment)).map(({ name }) => name);
  const sizes = await readSizes(environment.db, names);
  const rows = [...sizes].map(([name, { records, bytes }]) => [name, dayOf(parts.now()), records, bytes]);
  if (rows.length > 0)
    await environment.db.run(
      `INSERT INTO ${environment.db.of(sizeTable)} (collection, day, records, bytes) VALUES ? ON DUPLICATE KEY UPDATE records = VALUES(records), bytes = VALUES(bytes)`,
      [rows],
    );
}

/** How many records each collection had a week ago, or on the first day that was noted since. */
export async function growth(parts: Parts, environment: Environment): Promise<Map<string, number>> {
  const rows = await environment.db.rows<{ collection: string; records: number }>(
    `SELECT s.collection, s.records FROM ${environment.db.of(sizeTable)} s JOIN (SELECT collection, MIN(day) AS day FROM ${environment.db.of(sizeTable)} WHERE day >= ? GROUP BY collection) first ON first.collection = s.collection AND first.day = s.day`,
    [dayOf(parts.now() - DAYS * DAY_MS)],
  );
  return new Map(rows.map(({ collection, records }) => [collection, Number(records)]));
}

/** Writes the numbers of records as they were a week ago. */
export async function insertSizes(db: EnvironmentDatabase, now: number, records: Record<string, number>): Promise<void> {
  const day = dayOf(now - DAYS * DAY_MS);
  await db.run(`INSERT IGNORE INTO ${db.of(sizeTable)} (collection, day, records, bytes) VALUES ?`, [
    Object.entries(records).map(([collection, count]) => [collection, day, count, 0]),
  ]);
}
