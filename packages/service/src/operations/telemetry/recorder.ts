/**
 * Records calls. They gather in memory and are written together once a second: rows of `_requests`, and minute
 * counts with latency histograms. Calls that belong to no environment go to the installation's own log database.
 */
import { addValue, type Histogram, maskSecrets, packHistogram } from '@orchard/core';
import type { Logger } from 'pino';
import { isDatabaseAway } from '../../platform/database/connection.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { requestMinuteTable, requestTable } from './tables.js';
import type { Call } from '../../platform/call.js';
import type { ChangeSignal } from '../../platform/live/changeSignal.js';
import type { Metrics } from '../../platform/metrics.js';

const FLUSH_MS = 1_000;
/** A call counts in the minute it came in; that minute’s count is held until no call can still be under way from it. */
const KEEP_MINUTES_MS = 5 * 60_000;
/** Most calls kept while the database is away; later ones are counted as dropped. */
const MOST_WAITING = 50_000;

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
type Waiting = {
  environmentId: string | null;
  rows: RequestValues[];
  minutes: Map<string, MinuteCount>;
  /** Names of the minutes that have counted since they were written. */
  changed: Set<string>;
};

const cut = (text: string | undefined, most: number): string | null =>
  text === undefined ? null : text.length > most ? text.slice(0, most) : text;

const masked = (text: string | undefined, most: number): string | null => cut(text && maskSecrets(text), most);

export class Recorder {
  readonly #waiting = new Map<EnvironmentDatabase, Waiting>();
  #count = 0;
  #timer: NodeJS.Timeout | null = null;
  #writing: Promise<void> = Promise.resolve();

  constructor(
    /** For calls that belong to no environment. */
    private readonly installation: EnvironmentDatabase,
    private readonly instance: string,
    private readonly now: () => number,
    private readonly metrics: Metrics,
    private readonly changes: ChangeSignal,
    private readonly log: Logger,
  ) {}

  start(): void {
    this.#timer = setInterval(() => void this.flush(), FLUSH_MS);
  }

  /** Takes one finished call. Cheap: no I/O. */
  record(call: Call, status: number, durationUs: number, bytesOut: number): void {
    const { environment, holder } = call;
    const isApp = call.operation.path.startsWith('/app/');
    const db = isApp && environment ? environment.db : this.installation;
    const client = holder?.client.name ?? '';
    const { method, path: route } = call.operation;
    this.metrics.count(isApp ? environment : null, method, route, status, durationUs);
    if (this.#count >= MOST_WAITING) {
      this.metrics.countDropped();
      return;
    }
    this.#count++;
    const waiting = this.#waitingFor(db, isApp && environment ? environment.id : null);
    waiting.rows.push([
      call.id,
      new Date(call.at),
      method,
      route,
      cut(maskSecrets(call.request.originalUrl), 500),
      status,
      Math.round(durationUs),
      Math.round(call.cost.databaseUs),
      call.cost.statements,
      client || null,
      holder?.key.id ?? null,
      call.user?.id ?? cut(call.member?.id, 64),
      masked(call.headers['orchard-device'] as string | undefined, 64),
      call.trace.traceId,
      call.trace.spanId,
      call.parentSpan,
      call.problem?.problem ?? null,
      masked(call.problem?.extras.teamDetail ?? call.problem?.detail, 2000),
      masked(call.headers.origin, 253),
      masked(call.headers['user-agent'], 300),
      Number(call.headers['content-length'] ?? 0),
      bytesOut,
    ]);
    const minute = Math.floor(call.at / 60_000) * 60_000;
    const name = `${minute} ${method} ${route} ${client} ${status}`;
    let count = waiting.minutes.get(name);
    if (!count) waiting.minutes.set(name, (count = { minute, method, route, client, status, calls: 0, histogram: new Map() }));
    count.calls++;
    addValue(count.histogram, durationUs);
    waiting.changed.add(name);
  }

  #waitingFor(db: EnvironmentDatabase, environmentId: string | null): Waiting {
    let waiting = this.#waiting.get(db);
    if (!waiting) this.#waiting.set(db, (waiting = { environmentId, rows: [], minutes: new Map(), changed: new Set() }));
    return waiting;
  }

  /** Writes what has gathered. Counts of the running minute stay in memory and are written again, whole, next time. */
  flush(): Promise<void> {
    this.#writing = this.#writing.then(async () => {
      for (const [db, waiting] of this.#waiting) await this.#write(db, waiting);
    });
    return this.#writing;
  }

  async #write(db: EnvironmentDatabase, waiting: Waiting): Promise<void> {
    const { rows, changed } = waiting;
    if (rows.length === 0) return;
    const counts = [...changed].flatMap((name) => waiting.minutes.get(name) ?? []);
    waiting.rows = [];
    waiting.changed = new Set();
    try {
      // IGNORE: after a lost connection a batch may have been written already.
      await insertRequests(db, rows);
      await insertMinutes(db, this.instance, counts);
      this.#count -= rows.length;
      this.#forgetPast(waiting);
      if (waiting.environmentId) this.changes.wake(waiting.environmentId);
    } catch (error) {
      if (isDatabaseAway(error)) {
        waiting.rows = [...rows, ...waiting.rows];
        for (const name of changed) waiting.changed.add(name);
        return;
      }
      this.#count -= rows.length;
      this.#waiting.delete(db);
      this.log.error({ err: error, database: db.name }, 'recorded calls could not be written and were dropped');
    }
  }

  #forgetPast(waiting: Waiting): void {
    const current = Math.floor(this.now() / 60_000) * 60_000;
    for (const [name, { minute }] of waiting.minutes) {
      if (minute < current - KEEP_MINUTES_MS && !waiting.changed.has(name)) waiting.minutes.delete(name);
    }
  }

  async stop(): Promise<void> {
    if (this.#timer) clearInterval(this.#timer);
    await this.flush();
  }
}

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
