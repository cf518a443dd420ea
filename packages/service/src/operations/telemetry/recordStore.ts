/** Recorded calls and counts, as rows. Raw SQL: bulk writes, a thousand rows a statement. */
import { type Count, packHistogram, type Step } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { cellTable, requestDayTable, requestHourTable, requestMinuteTable, requestTable } from './tables.js';

export const REQUEST_COLUMNS = [
  'id',
  'at',
  'method',
  'route',
  'path',
  'status',
  'durationUs',
  'databaseUs',
  'statements',
  'client',
  'keyId',
  'userId',
  'deviceId',
  'trace',
  'span',
  'parentSpan',
  'problem',
  'detail',
  'origin',
  'userAgent',
  'bytesIn',
  'bytesOut',
  'target',
  'version',
  'keptOf',
  'direction',
  'timeline',
  'headers',
  'bodies',
] as const;
export type RequestValues = unknown[];
const AT_ONCE = 1000;

/** The table of each step, and its column for the start of a step. */
export const COUNT_TABLES = {
  cell: { table: cellTable, at: 'at' },
  minute: { table: requestMinuteTable, at: 'minute' },
  hour: { table: requestHourTable, at: 'at' },
  day: { table: requestDayTable, at: 'at' },
} as const;
/** What a count is of, in the order of the primary keys. */
export const COUNTED = ['kind', 'method', 'route', 'target', 'client', 'status', 'problem'] as const;

/** Writes request rows; values in the order of {@link REQUEST_COLUMNS}. */
export async function insertRequests(db: EnvironmentDatabase, rows: RequestValues[]): Promise<void> {
  for (let from = 0; from < rows.length; from += AT_ONCE) {
    await db.run(`INSERT IGNORE INTO ${db.of(requestTable)} (${REQUEST_COLUMNS.join(', ')}) VALUES ?`, [rows.slice(from, from + AT_ONCE)]);
  }
}

/**
 * Writes counts; those written before of the same thing are replaced.
 * @param instance who counted; null for sums over all instances, which hours and days are
 */
export async function insertCounts(db: EnvironmentDatabase, step: Step, instance: string | null, counts: readonly Count[]): Promise<void> {
  const { table, at } = COUNT_TABLES[step];
  const own = instance === null ? [] : [instance];
  const columns = [`\`${at}\``, ...COUNTED, ...(own.length ? ['instance'] : []), 'calls', 'sumUs', 'histogram'];
  for (let from = 0; from < counts.length; from += AT_ONCE) {
    const rows = counts
      .slice(from, from + AT_ONCE)
      .map((count) => [
        new Date(count.at),
        ...COUNTED.map((name) => count[name]),
        ...own,
        count.calls,
        Math.round(count.sumUs),
        packHistogram(count.histogram),
      ]);
    await db.run(
      `INSERT INTO ${db.of(table)} (${columns.join(', ')}) VALUES ? ON DUPLICATE KEY UPDATE
       calls = VALUES(calls), sumUs = VALUES(sumUs), histogram = VALUES(histogram), writtenAt = UTC_TIMESTAMP(3)`,
      [rows],
    );
  }
}

/** Takes the last minutes out of what the condition is judged by; minutes, hours and days keep them. */
export async function forgetCells(db: EnvironmentDatabase): Promise<void> {
  await db.orm.delete(db.table(cellTable));
}
