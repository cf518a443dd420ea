/** Recorded calls: lists, and one in full. */
import { Problem, type RequestDetail, type RequestSummary } from '@orchard/contract';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import { requestTable } from './tables.js';

type RequestRow = typeof requestTable.$inferSelect;

const COLUMNS: Columns = new Map([
  ...plainColumns({
    text: ['id', 'method', 'route', 'path', 'client', 'userId', 'deviceId', 'trace', 'problem', 'origin', 'target'],
    time: ['at'],
    number: ['status'],
  }),
  ['durationMs', { sql: '(durationUs / 1000)', kind: 'number' }],
  ['databaseMs', { sql: '(databaseUs / 1000)', kind: 'number' }],
]);

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
  };
}

export async function listRequests(db: EnvironmentDatabase, request: ListRequest, ground: ListGround) {
  const plan = planList(COLUMNS, { ...request, sort: request.sort || '-at' }, { field: 'id', descending: true }, ground);
  const rows = await db.rows<RequestRow>(
    `SELECT id, at, method, route, path, status, durationUs, databaseUs, client, userId, deviceId, trace, problem FROM ${db.of(requestTable)} WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
    plan.values,
  );
  const sortValue = (row: RequestRow, field: string) =>
    field === 'durationMs' ? row.durationUs / 1000 : field === 'databaseMs' ? row.databaseUs / 1000 : row[field as keyof RequestRow];
  return cutPage(rows, plan, ground, sortValue, presentSummary);
}

/** The id is a UUIDv7; its time selects the day's partition. */
export async function readRequest(db: EnvironmentDatabase, id: string): Promise<RequestDetail> {
  const at = /^[0-9a-f]{8}-[0-9a-f]{4}-7/.test(id) ? new Date(Number.parseInt(id.slice(0, 8) + id.slice(9, 13), 16)) : null;
  const [row] = at ? await db.rows<RequestRow>(`SELECT * FROM ${db.of(requestTable)} WHERE at = ? AND id = ?`, [at, id]) : [];
  if (!row)
    throw new Problem('not-found', `No request ${id} is recorded here. It may be older than the retention, or from the last second.`);
  const { statements, bytesIn, bytesOut, origin, userAgent, detail, span, parentSpan, keyId } = row;
  return { ...presentSummary(row), statements, bytesIn, bytesOut, origin, userAgent, detail, span, parentSpan, key: keyId };
}
