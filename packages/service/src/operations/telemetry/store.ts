/** Recorded calls: lists, and one in full. */
import { Problem, type RequestDetail, type RequestSummary } from '@orchard/contract';
import { unpackTimeline } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import { requestTable } from './tables.js';

type RequestRow = typeof requestTable.$inferSelect;
/** Free text beside the filter of a list. */
export type Searched = ListRequest & { text?: string | undefined };

const COLUMNS: Columns = new Map([
  ...plainColumns({
    text: [
      'id',
      'method',
      'route',
      'path',
      'client',
      'userId',
      'deviceId',
      'trace',
      'problem',
      'detail',
      'origin',
      'target',
      'version',
      'direction',
    ],
    time: ['at'],
    number: ['status'],
  }),
  ['durationMs', { sql: '(durationUs / 1000)', kind: 'number' }],
  ['databaseMs', { sql: '(databaseUs / 1000)', kind: 'number' }],
]);
const SUMMARY =
  'id, at, method, route, path, status, durationUs, databaseUs, client, userId, deviceId, trace, problem, target, version, keptOf, direction';

const ms = (us: number) => Math.round(us) / 1000;

function presentSummary(row: RequestRow): RequestSummary {
  return {
    id: row.id,
    at: row.at.toISOString(),
    method: row.method,
    route: row.route,
    path: row.path,
    status: row.status,
    durationMs: ms(row.durationUs),
    databaseMs: ms(row.databaseUs),
    client: row.client,
    userId: row.userId,
    deviceId: row.deviceId,
    trace: row.trace,
    problem: row.problem,
    target: row.target,
    version: row.version,
    keptOf: row.keptOf,
    direction: row.direction as RequestSummary['direction'],
  };
}

function presentDetail(row: RequestRow): RequestDetail {
  const { statements, bytesIn, bytesOut, origin, userAgent, detail, span, parentSpan, keyId } = row;
  return {
    ...presentSummary(row),
    statements,
    bytesIn,
    bytesOut,
    origin,
    userAgent,
    detail,
    span,
    parentSpan,
    key: keyId,
    timeline: row.timeline === null ? [] : unpackTimeline(row.timeline),
    headers: row.headers === null ? null : JSON.parse(row.headers),
    bodies: row.bodies === null ? null : JSON.parse(row.bodies),
  };
}

/** The text as it is, without a pattern language: no character of it means anything else. */
const TEXT_SQL = "LOCATE(LOWER(?), LOWER(CONCAT_WS(' ', path, problem, detail))) > 0";

async function findRequests(db: EnvironmentDatabase, columns: string, request: Searched, ground: ListGround) {
  const plan = planList(COLUMNS, { ...request, sort: request.sort || '-at' }, { field: 'id', descending: true }, ground);
  const text = request.text?.trim();
  const where = text ? `${TEXT_SQL} AND ${plan.where}` : plan.where;
  const rows = await db.rows<RequestRow>(
    `SELECT ${columns} FROM ${db.of(requestTable)} WHERE ${where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
    text ? [text, ...plan.values] : plan.values,
  );
  return { plan, rows };
}

export async function listRequests(db: EnvironmentDatabase, request: Searched, ground: ListGround) {
  const { plan, rows } = await findRequests(db, SUMMARY, request, ground);
  const sortValue = (row: RequestRow, field: string) =>
    field === 'durationMs' ? row.durationUs / 1000 : field === 'databaseMs' ? row.databaseUs / 1000 : row[field as keyof RequestRow];
  return cutPage(rows, plan, ground, sortValue, presentSummary);
}

/** A selection in full, without pages. */
export async function readRequests(db: EnvironmentDatabase, request: Searched, ground: ListGround): Promise<RequestDetail[]> {
  const { rows } = await findRequests(db, '*', request, ground);
  return rows.slice(0, request.limit).map(presentDetail);
}

/** The id is a UUIDv7; its time selects the day's partition. */
export async function readRequest(db: EnvironmentDatabase, id: string): Promise<RequestDetail> {
  const at = /^[0-9a-f]{8}-[0-9a-f]{4}-7/.test(id) ? new Date(Number.parseInt(id.slice(0, 8) + id.slice(9, 13), 16)) : null;
  const [row] = at ? await db.rows<RequestRow>(`SELECT * FROM ${db.of(requestTable)} WHERE at = ? AND id = ?`, [at, id]) : [];
  if (!row)
    throw new Problem(
      'not-found',
      `No request ${id} is recorded here. It may be older than the retention, from the last second, or one of many like it that were only counted.`,
    );
  return presentDetail(row);
}

/** SQL for requests in the columns of log entries: what they answered as text, a failed one as an error. */
export const requestsAsEntriesSql = (db: EnvironmentDatabase): string =>
  `SELECT * FROM (SELECT at, id, CASE WHEN status >= 500 OR status = 0 THEN 'error' WHEN status >= 400 THEN 'warning' ELSE 'info' END AS level, 'request' AS source,
   CONCAT(IF(direction = 'out', 'to ', ''), method, ' ', path, ' ', status, COALESCE(CONCAT(' ', problem), '')) AS text, NULL AS fields, trace, deviceId, userId, version, NULL AS error FROM ${db.of(requestTable)}) requests`;
