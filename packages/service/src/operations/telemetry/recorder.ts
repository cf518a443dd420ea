/**
 * Records calls. They gather in memory and are written together once a second: rows of `_requests`, and minute
 * counts with latency histograms. Calls that belong to no environment go to the installation's own log database.
 */
import { addValue, maskSecrets } from '@orchard/core';
import type { Logger } from 'pino';
import { isDatabaseAway } from '../../platform/database/errors.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { insertMinutes, insertRequests, type MinuteCount, type RequestValues } from './recordStore.js';
import type { Call } from '../../platform/call.js';
import type { ChangeSignal } from '../../platform/live/changeSignal.js';
import type { Metrics } from '../../platform/metrics.js';

const FLUSH_MS = 1_000;
/** A call counts in the minute it arrived; that minute's count stays in memory until none of its calls can be in flight. */
const KEEP_MINUTES_MS = 5 * 60_000;
/** Most calls kept while the database is away; later ones are counted as dropped. */
const MOST_WAITING = 50_000;

type Waiting = {
  environmentId: string | null;
  rows: RequestValues[];
  minutes: Map<string, MinuteCount>;
  /** Minutes with new counts since they were written. */
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

  /** Records one finished call, without I/O. */
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

  /** Writes what was gathered. Counts of the current minute stay in memory and are written again, complete, next time. */
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
