/** Days of a large table as partitions: created ahead, dropped after the retention period. */
import { getTableName } from 'drizzle-orm';
import type { MySqlTable } from 'drizzle-orm/mysql-core';
import type { EnvironmentDatabase } from './environmentDatabase.js';

const DAY_MS = 86_400_000;
const DAYS_AHEAD = 2;
const day = (ms: number) => new Date(ms).toISOString().slice(0, 10);
const partitionName = (date: string) => `d${date.replaceAll('-', '')}`;

/** Creates the partitions from `keepDays` ago to the day after tomorrow, and drops older ones. */
export async function keepPartitions(db: EnvironmentDatabase, table: MySqlTable, now: number, keepDays: number): Promise<void> {
  const rows = await db.rows<{ partition: string }>(
    "SELECT PARTITION_NAME AS `partition` FROM information_schema.PARTITIONS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND PARTITION_NAME <> 'later' ORDER BY PARTITION_NAME",
    [db.name, getTableName(table)],
  );
  const present = rows.map(({ partition }) => partition);
  const latest = present.at(-1) ?? '';
  const missing: string[] = [];
  for (let ago = keepDays; ago >= -DAYS_AHEAD; ago--) {
    const date = day(now - ago * DAY_MS);
    if (partitionName(date) > latest) missing.push(date);
  }
  if (missing.length > 0) {
    const parts = missing.map((date) => `PARTITION ${partitionName(date)} VALUES LESS THAN (TO_DAYS('${day(Date.parse(date) + DAY_MS)}'))`);
    await db.run(
      `ALTER TABLE ${db.of(table)} REORGANIZE PARTITION later INTO (${parts.join(', ')}, PARTITION later VALUES LESS THAN MAXVALUE)`,
    );
  }
  const oldest = partitionName(day(now - keepDays * DAY_MS));
  const over = present.filter((partition) => partition < oldest);
  if (over.length > 0) await db.run(`ALTER TABLE ${db.of(table)} DROP PARTITION ${over.join(', ')}`);
}
