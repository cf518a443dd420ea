/** Counts as they are read back. Raw SQL: the table depends on the step, and conditions on the caller. */
import { type Count, type CountedKind, type Step, unpackHistogram } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { COUNTED, COUNT_TABLES } from './recordStore.js';
import { cellTable } from './tables.js';

type Row = Omit<Count, 'at' | 'histogram' | 'calls' | 'sumUs'> & { at: Date; calls: number; sumUs: number; histogram: string };

export type PackedCount = Row;

export const presentCount = (row: Row): Count => ({
  ...row,
  kind: row.kind as CountedKind,
  at: row.at.getTime(),
  calls: Number(row.calls),
  sumUs: Number(row.sumUs),
  histogram: new Map(unpackHistogram(row.histogram)),
});

const columnsOf = (at: string) => `\`${at}\` AS at, ${COUNTED.join(', ')}, calls, sumUs, histogram`;

export type CountCondition = {
  client?: string | undefined;
  route?: string | undefined;
  target?: string | undefined;
  kind?: CountedKind | readonly CountedKind[] | undefined;
};

/** Counts whose step began in a period; `until` is not part of it. */
export async function readCounts(
  db: EnvironmentDatabase,
  step: Step,
  from: number,
  until: number,
  wanted: CountCondition = {},
): Promise<Count[]> {
  return (await readPacked(db, step, from, until, wanted)).map(presentCount);
}

/** The same with histograms as they are stored, for sums over many of them. */
export async function readPacked(
  db: EnvironmentDatabase,
  step: Step,
  from: number,
  until: number,
  wanted: CountCondition = {},
): Promise<PackedCount[]> {
  const { table, at } = COUNT_TABLES[step];
  const given = Object.entries(wanted).flatMap(([name, value]) => (value === undefined ? [] : [{ name, values: [value].flat() }]));
  const oneOf = ({ name, values }: (typeof given)[number]) => `${name} IN (${values.map(() => '?').join()})`;
  const where = [`\`${at}\` >= ?`, `\`${at}\` < ?`, ...given.map(oneOf)].join(' AND ');
  const rows = await db.rows<Row>(`SELECT ${columnsOf(at)} FROM ${db.of(table)} WHERE ${where}`, [
    new Date(from),
    new Date(until),
    ...given.flatMap(({ values }) => values),
  ]);
  return rows;
}

/** A row of counts that grows until its ten seconds are over, by what tells it from others. */
export type CellRow = Row & { instance: string };
export const cellName = ({ at, instance, ...row }: CellRow): string =>
  `${at.getTime()} ${instance} ${COUNTED.map((name) => row[name]).join(' ')}`;

const CELL_COLUMNS = `${columnsOf('at')}, instance`;

/** SQL for the cells written in the last `ms` milliseconds, by the clock of their database. */
export const cellsWrittenSql = (db: EnvironmentDatabase, ms: number): string =>
  `SELECT ${CELL_COLUMNS} FROM ${db.of(cellTable)} WHERE writtenAt > UTC_TIMESTAMP(3) - INTERVAL ${Math.ceil(ms)} * 1000 MICROSECOND`;

/** The cells of a period as they stand. */
export const readCells = (db: EnvironmentDatabase, from: number, until: number): Promise<CellRow[]> =>
  db.rows<CellRow>(`SELECT ${CELL_COLUMNS} FROM ${db.of(cellTable)} WHERE at >= ? AND at < ?`, [new Date(from), new Date(until)]);

/** The starts of the longer steps in which something was written since the longer one was last summed. */
export async function writtenSince(db: EnvironmentDatabase, step: Step, longer: 'hour' | 'day'): Promise<number[]> {
  const { table, at } = COUNT_TABLES[step];
  const target = db.of(COUNT_TABLES[longer].table);
  const format = longer === 'hour' ? '%Y-%m-%d %H:00:00' : '%Y-%m-%d';
  // A statement that began before the last run may have ended after it; it takes a minute at most.
  const rows = await db.rows<{ start: Date }>(
    `SELECT DISTINCT CAST(DATE_FORMAT(\`${at}\`, '${format}') AS DATETIME) AS start FROM ${db.of(table)}
     WHERE writtenAt >= (SELECT COALESCE(MAX(writtenAt), '1970-01-01') FROM ${target}) - INTERVAL 1 MINUTE`,
  );
  return rows.map(({ start }) => start.getTime());
}

export async function removeCounts(db: EnvironmentDatabase, step: Step, before: number): Promise<void> {
  const { table, at } = COUNT_TABLES[step];
  for (;;) {
    const { affectedRows } = await db.change(`DELETE FROM ${db.of(table)} WHERE \`${at}\` < ? LIMIT 5000`, [new Date(before)]);
    if (affectedRows < 5000) return;
  }
}

/** When each problem was seen first, as far as hours and days go back; what is younger than the last sum is missing. */
export async function firstSeen(db: EnvironmentDatabase): Promise<Map<string, number>> {
  const first = (step: 'hour' | 'day') =>
    `SELECT problem, MIN(at) AS at FROM ${db.of(COUNT_TABLES[step].table)} WHERE problem <> '' GROUP BY problem`;
  const rows = await db.rows<{ problem: string; at: Date }>(
    `SELECT problem, MIN(at) AS at FROM (${first('hour')} UNION ALL ${first('day')}) seen GROUP BY problem`,
  );
  return new Map(rows.map(({ problem, at }) => [problem, at.getTime()]));
}

/** The calls of some whole hours, by their starts. */
export async function hourlyCalls(db: EnvironmentDatabase, hours: readonly number[]): Promise<Map<number, number>> {
  const rows = await db.runRows<{ at: Date; calls: number }>(
    `SELECT at, SUM(calls) AS calls FROM ${db.of(COUNT_TABLES.hour.table)} WHERE kind = 'call' AND at IN (?) GROUP BY at`,
    [hours.map((at) => new Date(at))],
  );
  return new Map(rows.map(({ at, calls }) => [at.getTime(), Number(calls)]));
}
