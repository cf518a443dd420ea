/** What an environment has now, counted. Raw SQL: which tables there are is data. */
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { feedTable } from '../../platform/live/tables.js';

/** Changes of records and users after a moment. */
export async function changesSince(db: EnvironmentDatabase, since: Date): Promise<number> {
  const [row] = await db.rows<{ changes: number }>(`SELECT COUNT(*) AS changes FROM ${db.of(feedTable)} WHERE at > ?`, [since]);
  return Number(row?.changes ?? 0);
}

/** Records by collection, and how many users and files there are. */
export async function countsNow(db: EnvironmentDatabase): Promise<Map<string, number>> {
  const tables = await db.rows<{ name: string }>(
    "SELECT TABLE_NAME AS name FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_TYPE = 'BASE TABLE' AND TABLE_NAME NOT LIKE '\\\\_%'",
    [db.name],
  );
  const counted = [...tables.map(({ name }) => [name, name]), ['users', '_users'], ['files', '_contents']] as [string, string][];
  const counts = await Promise.all(
    counted.map(async ([name, table]): Promise<[string, number]> => {
      const [row] = await db.rows<{ count: number }>(`SELECT COUNT(*) AS count FROM ${db.collection(table)}`);
      return [name, Number(row?.count ?? 0)];
    }),
  );
  return new Map(counts);
}
