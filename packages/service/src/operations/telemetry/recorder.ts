/**
 * Records calls and counts other work. They gather in memory and are written together once a second: rows of `_requests`, and
 * counts by ten seconds and by minute. Calls that belong to no environment go to the installation's own log database.
 */
import { CELL_MS, Sampler } from '@orchard/core';
import type { Logger } from 'pino';
import type { Call, Environment } from '../../platform/call.js';
import { isDatabaseUnable } from '../../platform/database/errors.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { ChangeSignal } from '../../platform/live/changeSignal.js';
import type { Metrics } from '../../platform/metrics.js';
import type { Exchange, Ports, WorkDone } from '../../platform/ports.js';
import { Callers } from './callers.js';
import { MovedAway } from '../../platform/access/directory.js';
import { type Counted, Counts } from './counts.js';
import { exchangeRow } from './exchangeRow.js';
import { NO_BODIES, type RecordingSettings } from './recording.js';
import { deviceOf, requestRow, targetOf, versionOfCall } from './requestRow.js';
import { insertCounts, insertRequests, type RequestValues } from './recordStore.js';

const FLUSH_MS = 1_000;
const MINUTE_MS = 60_000;
/** A call counts in the minute it came in; that minute's count stays in memory until none of its calls can be in flight. */
const KEEP_MINUTES_MS = 6 * MINUTE_MS;
/** In its ten seconds it counts when it ends. */
const KEEP_CELLS_MS = 2 * CELL_MS;
/** Most rows kept while the database is away; later ones are dropped, but for their counts. */
const MOST_WAITING = 50_000;

class Waiting {
  rows: RequestValues[] = [];
  readonly cells = new Counts(CELL_MS, KEEP_CELLS_MS);
  readonly minutes = new Counts(MINUTE_MS, KEEP_MINUTES_MS);
  readonly sampler = new Sampler();
  readonly outgoing = new Sampler();
  readonly callers: Callers;

  constructor(
    readonly environmentId: string | null,
    countriesOf: (ids: readonly string[]) => ReturnType<Ports['countriesOf']>,
  ) {
    this.callers = new Callers(this.minutes, countriesOf);
  }
}

export class Recorder {
  readonly #waiting = new Map<EnvironmentDatabase, Waiting>();
  #count = 0;
  #timer: NodeJS.Timeout | null = null;
  #writing: Promise<void> = Promise.resolve();

  /** @param databaseNow the database's clock: cells of several instances have to fit together */
  constructor(
    /** For calls that belong to no environment. */
    private readonly installation: EnvironmentDatabase,
    private readonly instance: string,
    private readonly now: () => number,
    private readonly databaseNow: () => number,
    private readonly settings: Pick<RecordingSettings, 'now'>,
    private readonly ports: Pick<Ports, 'countriesOf'>,
    private readonly metrics: Metrics,
    private readonly changes: ChangeSignal,
    private readonly log: Logger,
  ) {}

  start(): void {
    this.#timer = setInterval(() => void this.flush(), FLUSH_MS);
  }

  /** Records one finished call, without I/O. */
  record(call: Call, status: number, durationUs: number, bytesOut: number): void {
    const { environment } = call;
    // What an app calls, and the pages on which its users sign in.
    const isApp = /^\/(app|identity)\//.test(call.operation.path);
    const db = isApp && environment ? environment.db : this.installation;
    const client = call.holder?.client.name ?? '';
    const { method, path: route } = call.operation;
    this.metrics.count(isApp ? environment : null, method, route, status, durationUs);
    const waiting = this.#waitingFor(db, isApp && environment ? environment.id : null);
    const problem = call.problem?.problem ?? '';
    const keptOf = waiting.sampler.take(call.at, problem || null, durationUs);
    const settings = () => (isApp && environment ? this.settings.now(environment) : NO_BODIES);
    this.#keep(waiting, keptOf, () => requestRow(call, { client, status, durationUs, bytesOut, keptOf, settings: settings() }));
    this.#add(waiting, call.at, { kind: 'call', method, route, target: targetOf(call, status), client, status, problem, durationUs });
    if (isApp && environment) waiting.callers.add(call.at, { client, status, durationUs }, versionOfCall(call), deviceOf(call));
  }

  /** @param row asked for only when it is kept */
  #keep(waiting: Waiting, keptOf: number, row: () => RequestValues): void {
    if (keptOf === 0) return;
    if (this.#count >= MOST_WAITING) return this.metrics.countDropped();
    this.#count++;
    waiting.rows.push(row());
  }

  /** Records a call to an outside system that has ended, without I/O. */
  recordExchange(environment: Environment, exchange: Exchange): void {
    const { gateway: name, failed, durationUs } = exchange;
    this.countWork(environment, { kind: 'gateway', name, failed, durationUs });
    const waiting = this.#waitingFor(environment.db, environment.id);
    const at = this.now();
    const keptOf = waiting.outgoing.take(at, exchange.problem && `${name} ${exchange.problem}`, durationUs);
    this.#keep(waiting, keptOf, () => exchangeRow(exchange, at, keptOf, this.settings.now(environment)));
  }

  /** Counts work of an environment that is no call, without I/O. */
  countWork({ db, id }: Pick<Environment, 'db' | 'id'>, { kind, name, failed, durationUs }: WorkDone): void {
    const waiting = this.#waitingFor(db, id);
    const counted: Counted = {
      kind,
      method: '',
      route: name.slice(0, 120),
      target: '',
      client: '',
      status: failed ? 500 : 200,
      problem: '',
      durationUs,
    };
    this.#add(waiting, this.now(), counted);
  }

  #add({ cells, minutes }: Waiting, at: number, counted: Counted): void {
    cells.add(this.databaseNow(), counted);
    minutes.add(at, counted);
  }

  #waitingFor(db: EnvironmentDatabase, environmentId: string | null): Waiting {
    let waiting = this.#waiting.get(db);
    if (!waiting) this.#waiting.set(db, (waiting = new Waiting(environmentId, (ids) => this.ports.countriesOf({ db }, ids))));
    return waiting;
  }

  /** Writes what was gathered. Counts that still grow stay in memory and are written again, complete, next time. */
  flush(): Promise<void> {
    this.#writing = this.#writing.then(async () => {
      for (const [db, waiting] of this.#waiting) await this.#write(db, waiting);
    });
    return this.#writing;
  }

  async #write(db: EnvironmentDatabase, waiting: Waiting): Promise<void> {
    const { rows } = waiting;
    await waiting.callers.settle().catch((error: unknown) => this.log.debug({ err: error }, 'countries of devices could not be read'));
    if (rows.length === 0 && !waiting.minutes.hasChanges) return;
    waiting.rows = [];
    const cells = waiting.cells.take();
    const minutes = waiting.minutes.take();
    try {
      // Repeated after a lost connection, each of these leaves the same rows.
      await insertRequests(db, rows);
      await insertCounts(db, 'cell', this.instance, cells.counts);
      await insertCounts(db, 'minute', this.instance, minutes.counts);
      this.#count -= rows.length;
      waiting.cells.forgetPast(this.databaseNow());
      waiting.minutes.forgetPast(this.now());
      if (waiting.environmentId) this.changes.wake(waiting.environmentId);
    } catch (error) {
      if (isDatabaseUnable(error)) {
        waiting.rows = [...rows, ...waiting.rows];
        waiting.cells.giveBack(cells.names);
        waiting.minutes.giveBack(minutes.names);
        return;
      }
      this.#count -= rows.length;
      this.#waiting.delete(db);
      // What was not written when an environment moved to another installation is not written there either.
      const isMoved = error instanceof MovedAway;
      this.log[isMoved ? 'warn' : 'error']({ err: error, database: db.name }, 'recorded calls could not be written and were dropped');
    }
  }

  async stop(): Promise<void> {
    if (this.#timer) clearInterval(this.#timer);
    await this.flush();
  }
}
