/** Days of `_requests` as partitions: made ahead, dropped when their time is over. */
import type { Database } from '../../platform/database/connection.js';

const DAY_MS = 86_400_000;
const DAYS_AHEAD = 2;
const day = (ms: number) => new Date(ms).toISOString().slice(0, 10);
const partitionName = (date: string) => `d${date.replaceAll('-', '')}`;

/** Makes the partitions from `keepDays` ago to the day after tomorrow, and drops older ones. */
export async function keepPartitions(database: Database, name: string, now: number, keepDays: number): Promise<void> {
  const rows = await database.rows<{ partition: string }>(
    "SELECT PARTITION_NAME AS `partition` FROM information_schema.PARTITIONS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = '_requests' AND PARTITION_NAME <> 'later' ORDER BY PARTITION_NAME",
    [name],
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
    await database.run(
      `ALTER TABLE \`${name}\`._requests REORGANIZE PARTITION later INTO (${parts.join(', ')}, PARTITION later VALUES LESS THAN MAXVALUE)`,
    );
  }
  const oldest = partitionName(day(now - keepDays * DAY_MS));
  const over = present.filter((partition) => partition < oldest);
  if (over.length > 0) await database.run(`ALTER TABLE \`${name}\`._requests DROP PARTITION ${over.join(', ')}`);
}
