/** Recorded calls and minute counts, as rows. Raw SQL: bulk writes, a thousand rows a statement. */
import { type Histogram, packHistogram } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { requestMinuteTable, requestTable } from './tables.js';

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
] as const;
export type RequestValues = unknown[];
export type MinuteCount = {
  minute: number;
  method: string;
  route: string;
  client: string;
  status: number;
  calls: number;
  histogram: Histogram;
};
/** Writes request rows; values in the order of {@link REQUEST_COLUMNS}. */
export async function insertRequests(db: EnvironmentDatabase, rows: RequestValues[]): Promise<void> {
  for (let from = 0; from < rows.length; from += 1000) {
    await db.run(`INSERT IGNORE INTO ${db.of(requestTable)} (${REQUEST_COLUMNS.join(', ')}) VALUES ?`, [rows.slice(from, from + 1000)]);
  }
}

/** Writes minute counts; a count written before by the same instance is replaced. */
export async function insertMinutes(db: EnvironmentDatabase, instance: string, counts: MinuteCount[]): Promise<void> {
  for (let from = 0; from < counts.length; from += 1000) {
    const rows = counts
      .slice(from, from + 1000)
      .map((count) => [
        new Date(count.minute),
        count.method,
        count.route,
        count.client,
        count.status,
        instance,
        count.calls,
        packHistogram(count.histogram),
      ]);
    await db.run(
      `INSERT INTO ${db.of(requestMinuteTable)} (minute, method, route, client, status, instance, calls, histogram) VALUES ?
       ON DUPLICATE KEY UPDATE calls = VALUES(calls), histogram = VALUES(histogram)`,
      [rows],
    );
  }
}
