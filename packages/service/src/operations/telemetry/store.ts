/** Recorded calls: lists, one in full, and sums over time. */
import { Problem, type RequestDetail, type RequestSummary, type Usage } from '@orchard/contract';
import { chooseStep, type Histogram, mergeInto, quantiles, stepStarts, unpackHistogram } from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type Columns, cutPage, type ListGround, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';

import { requestMinuteTable, requestTable } from './tables.js';

type RequestRow = typeof requestTable.$inferSelect;

const COLUMNS: Columns = new Map([
  ...plainColumns({
    text: ['id', 'method', 'route', 'path', 'client', 'userId', 'deviceId', 'trace', 'problem', 'origin'],
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

type MinuteRow = { minute: Date; method: string; route: string; status: number; calls: number; histogram: string };
class Sum {
  calls = 0;
  clientErrors = 0;
  serverErrors = 0;
  readonly histogram: Histogram = new Map();
  readonly statuses: Record<string, number> = {};

  add(row: MinuteRow, buckets: [number, number][]): void {
    this.calls += row.calls;
    if (row.status >= 500) this.serverErrors += row.calls;
    else if (row.status >= 400) this.clientErrors += row.calls;
    this.statuses[row.status] = (this.statuses[row.status] ?? 0) + row.calls;
    mergeInto(this.histogram, buckets);
  }

  present() {
    const [p50, p95, p99] = quantiles(this.histogram, [0.5, 0.95, 0.99]).map((us) => (us === null ? null : ms(us)));
    return {
      calls: this.calls,
      clientErrors: this.clientErrors,
      serverErrors: this.serverErrors,
      p50Ms: p50 ?? null,
      p95Ms: p95 ?? null,
      p99Ms: p99 ?? null,
    };
  }
}

export type UsageRange = { from: number; until: number; client?: string | undefined; route?: string | undefined };

/** Sums the minutes of a range by step and by route. */
export async function readUsage(db: EnvironmentDatabase, range: UsageRange): Promise<Usage> {
  const { from, until } = range;
  const stepMs = chooseStep(from, until);
  const conditions = ['minute >= ?', 'minute < ?'];
  const values: unknown[] = [new Date(Math.floor(from / stepMs) * stepMs), new Date(until)];
  if (range.client) {
    conditions.push('client = ?');
    values.push(range.client);
  }
  if (range.route) {
    conditions.push('route = ?');
    values.push(range.route);
  }
  const rows = await db.rows<MinuteRow>(
    `SELECT minute, method, route, status, calls, histogram FROM ${db.of(requestMinuteTable)} WHERE ${conditions.join(' AND ')}`,
    values,
  );
  const total = new Sum();
  const steps = new Map(stepStarts(from, until, stepMs).map((at) => [at, new Sum()]));
  const routes = new Map<string, Sum>();
  for (const row of rows) {
    const buckets = unpackHistogram(row.histogram);
    const route = `${row.method} ${row.route}`;
    if (!routes.has(route)) routes.set(route, new Sum());
    for (const sum of [total, steps.get(Math.floor(row.minute.getTime() / stepMs) * stepMs), routes.get(route)]) sum?.add(row, buckets);
  }
  return {
    from: new Date(from).toISOString(),
    until: new Date(until).toISOString(),
    stepMs,
    total: total.present(),
    steps: [...steps].map(([at, sum]) => ({ at: new Date(at).toISOString(), ...sum.present() })),
    routes: [...routes]
      .map(([route, sum]) => {
        const [method, path] = route.split(' ') as [string, string];
        return { method, route: path, ...sum.present(), statuses: sum.statuses };
      })
      .sort((a, b) => b.calls - a.calls),
  };
}
