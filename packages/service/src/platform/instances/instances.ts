/** This instance among those that serve the same databases: it says that it is there, and hears of the others. */
import { hostname } from 'node:os';
import type { Logger } from 'pino';
import type { DatabaseClock } from '../database/clock.js';
import type { Database } from '../database/connection.js';
import { isDatabaseAway } from '../database/errors.js';
import { forgetInstance, type InstanceRow, instancesSince, noteInstance } from './store.js';

const BEAT_MS = 2_000;
/** One that was not heard of for so long is gone. */
const GONE_MS = 10_000;
const FORGET_MS = 60_000;

type Ground = { database: Database; instance: string; version: string; now: () => number; clock: DatabaseClock; log: Logger };

export class Instances {
  #state: InstanceRow['state'] = 'serving';
  #others = 0;
  #timer: NodeJS.Timeout | null = null;
  #port = 0;
  #startedAt = new Date(0);

  constructor(private readonly ground: Ground) {}

  /** Whether this one stops: it takes no part in what begins. */
  get isStopping(): boolean {
    return this.#state === 'stopping';
  }

  /** How many others there are. */
  get others(): number {
    return this.#others;
  }

  async start(port: number): Promise<void> {
    this.#port = port;
    // Not before: until the clocks were compared, this machine's may be off.
    this.#startedAt = new Date(this.ground.now());
    await this.#beat();
    this.#timer = setInterval(() => void this.#beat(), BEAT_MS).unref();
  }

  /** From now on `/readyz` says so, and a balancer sends no more calls. */
  async leave(): Promise<void> {
    this.#state = 'stopping';
    await this.#beat();
  }

  async stop(): Promise<void> {
    if (this.#timer) clearInterval(this.#timer);
    this.#timer = null;
    await forgetInstance(this.ground.database, this.ground.instance).catch(() => undefined);
  }

  /** All that are there now, the oldest first. */
  list(): Promise<InstanceRow[]> {
    const now = this.ground.now();
    return instancesSince(this.ground.database, new Date(now - GONE_MS), new Date(now - FORGET_MS));
  }

  async #beat(): Promise<void> {
    const { database, instance, version, now, clock, log } = this.ground;
    try {
      await noteInstance(database, {
        id: instance,
        host: hostname(),
        pid: process.pid,
        port: this.#port,
        version,
        database: database.host,
        state: this.#state,
        clockBehindMs: clock.behindMs,
        startedAt: this.#startedAt,
        seenAt: new Date(now()),
      });
      this.#others = (await this.list()).filter(({ id }) => id !== instance).length;
    } catch (error) {
      // It stays among those that were there until the database is back.
      if (!isDatabaseAway(error)) log.warn({ err: error }, 'this instance could not say that it is there');
    }
  }
}
