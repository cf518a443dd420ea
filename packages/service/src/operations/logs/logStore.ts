/** Log entries as rows. Raw SQL: bulk writes, and lists whose filters are SQL. */
import { type LogEntry, Problem } from '@orchard/contract';
import { LOG_LEVELS, type LogLevel } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import {
  type Columns,
  cutPage,
  type ListGround,
  type ListRequest,
  listAcross,
  plainColumns,
  planList,
} from '../../platform/database/listing.js';
import { logTable } from './tables.js';

type Row = typeof logTable.$inferSelect;
export type LogRow = Row;
export type Searched = ListRequest & { text?: string | undefined };

const NAMES = ['at', 'id', 'level', 'source', 'text', 'fields', 'trace', 'deviceId', 'userId', 'version', 'error'] as const;
const LEVEL_SQL = `ELT(level + 1, ${LOG_LEVELS.map((level) => `'${level}'`).join(', ')})`;
const COLUMNS: Columns = new Map([
  ...plainColumns({ text: ['id', 'source', 'text', 'trace', 'deviceId', 'userId', 'version', 'error'], time: ['at'] }),
  ['level', { sql: LEVEL_SQL, kind: 'text' }],
]);
const AT_ONCE = 1_000;
/** Entries shown before and after one. */
const AROUND = 25;

export const levelNumber = (level: LogLevel): number => LOG_LEVELS.indexOf(level);

export const presentEntry = ({ at, level, fields, ...row }: Row): LogEntry => ({
  ...row,
  at: at.toISOString(),
  level: LOG_LEVELS[level] as LogLevel,
  fields: fields === null ? null : JSON.parse(fields),
});

export async function insertEntries(db: EnvironmentDatabase, rows: readonly Row[]): Promise<void> {
  for (let from = 0; from < rows.length; from += AT_ONCE)
    await db.run(`INSERT IGNORE INTO ${db.of(logTable)} (${NAMES.join(', ')}) VALUES ?`, [
      rows.slice(from, from + AT_ONCE).map((row) => NAMES.map((name) => row[name])),
    ]);
}

/** The text as it is, without a pattern language. */
const TEXT_SQL = "LOCATE(LOWER(?), LOWER(CONCAT_WS(' ', text, fields))) > 0";

export async function listEntries(db: EnvironmentDatabase, request: Searched, ground: ListGround) {
  const plan = planList(COLUMNS, { ...request, sort: request.sort || '-at' }, { field: 'id', descending: true }, ground);
  const text = request.text?.trim();
  const where = text ? `${TEXT_SQL} AND ${plan.where}` : plan.where;
  const rows = await db.rows<Row>(
    `SELECT ${NAMES.join(', ')} FROM ${db.of(logTable)} WHERE ${where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
    text ? [text, ...plan.values] : plan.values,
  );
  return cutPage(rows, plan, ground, (row, field) => row[field as keyof Row], presentEntry);
}

/** The columns of entries, and of requests that stand among them; their level is a text here. */
const ENTRY_SELECT = (db: EnvironmentDatabase) =>
  `SELECT * FROM (SELECT at, id, ${LEVEL_SQL} AS level, source, text, fields, trace, deviceId, userId, version, error FROM ${db.of(logTable)}) entries`;
const MIXED: Columns = new Map(
  plainColumns({ text: ['id', 'level', 'source', 'text', 'trace', 'deviceId', 'userId', 'version', 'error'], time: ['at'] }),
);

/** Entries and requests as one list in order of time. @param requestsSql requests with the same columns */
export function listWithRequests(db: EnvironmentDatabase, requestsSql: string, request: Searched, ground: ListGround) {
  const text = request.text?.trim();
  const condition = text ? { sql: "LOCATE(LOWER(?), LOWER(CONCAT_WS(' ', text, fields))) > 0", values: [text] } : undefined;
  const parts = [ENTRY_SELECT(db), requestsSql].map((select) => ({ on: db, select, ...(condition ? { condition } : {}) }));
  const present = ({ at, level, fields, ...row }: MixedRow): LogEntry => ({
    ...row,
    at: at.toISOString(),
    level,
    fields: fields === null ? null : JSON.parse(fields),
  });
  return listAcross(parts, { columns: MIXED, sort: '-at', tie: { field: 'id', descending: true } }, request, ground, present);
}
type MixedRow = Omit<Row, 'level'> & { level: LogLevel };

/** What came before and after an entry, latest first. @throws {Problem} not-found */
export async function entriesAround(db: EnvironmentDatabase, id: string): Promise<LogEntry[]> {
  const select = `SELECT ${NAMES.join(', ')} FROM ${db.of(logTable)}`;
  const [row] = await db.rows<Row>(`${select} WHERE id = ?`, [id]);
  if (!row) throw new Problem('not-found', `There is no log entry ${id}. It may be older than the retention.`);
  const [before, after] = await Promise.all([
    db.rows<Row>(`${select} WHERE (at, id) < (?, ?) ORDER BY at DESC, id DESC LIMIT ${AROUND}`, [row.at, row.id]),
    db.rows<Row>(`${select} WHERE (at, id) > (?, ?) ORDER BY at, id LIMIT ${AROUND}`, [row.at, row.id]),
  ]);
  return [...after.reverse(), row, ...before].map(presentEntry);
}
