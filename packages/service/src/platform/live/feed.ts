/**
 * The change feed of each environment, as it is read. Triggers write entries inside the transaction of each change; their
 * numbers are assigned here, after the commit and by one instance at a time. So a lower number never follows a higher one,
 * and a reader that resumes after a number misses nothing.
 */
import type { Logger } from 'pino';
import { apart } from '../database/connection.js';
import { isDatabaseAway } from '../database/errors.js';
import { readInPieces } from '../database/pieces.js';
import type { Environment } from '../call.js';
import type { ChangeSignal } from './changeSignal.js';
import { type ChangedRecord, endEntries, type FeedRow, oldestNumber, readChanged, readEntries, settleFeed } from './feedStore.js';
import { MovedAway } from '../access/directory.js';

export type { ChangedRecord, FeedRow };

/** Where entries are delivered to. */
export interface FeedListener {
  /** The number of the last entry that was taken. */
  readonly position: number;
  /** Whether it could take another entry now. */
  readonly hasRoom: boolean;
  /** Takes entries in their order, one call after another; stops at the one after which it has no room. */
  take(entries: readonly FeedRow[]): Promise<void>;
  /** Called every few seconds with the number up to which everything was delivered. */
  tick(position: number): void;
}

const POLL_MS = 400;
/** Changes in quick succession are numbered in one transaction. */
const GATHER_MS = 12;
const TICK_MS = 5_000;
/** Entries hold whole records, so their size decides how many are read at once. */
const READ = { least: 1, first: 8, most: 256, bytes: 2_000_000 } as const;

export class Feed {
  readonly #tails = new Map<string, Tail>();
  readonly #limits = new Map<string, number>();

  constructor(
    private readonly changes: ChangeSignal,
    private readonly log: Logger,
  ) {}

  /** Numbers everything committed, and returns the highest number. */
  settle({ db }: Environment): Promise<number> {
    return settleFeed(db);
  }

  /** The lowest number that is still kept; 0 when there is none. */
  oldest({ db }: Environment): Promise<number> {
    return oldestNumber(db);
  }

  /** Deletes old entries; the newest stays, so that numbers go on from it. */
  endBefore({ db }: Environment, at: Date): Promise<void> {
    return endEntries(db, at);
  }

  /** Entries after a number, in order. */
  async read(environment: Environment, after: number): Promise<FeedRow[]> {
    const limit = this.#limits.get(environment.id) ?? READ.first;
    const rows = await readInPieces(limit, (fewer) => readEntries(environment.db, after, fewer));
    const bytes = rows.reduce((sum, row) => sum + (row.before?.length ?? 0) + (row.after?.length ?? 0), 0);
    const fitting = rows.length > 0 ? Math.floor((rows.length * READ.bytes) / Math.max(1, bytes)) : limit;
    this.#limits.set(environment.id, Math.max(READ.least, Math.min(READ.most, limit * 2, fitting)));
    return rows;
  }

  /** Which records changed, without what they held. */
  changed(
    { db }: Environment,
    collections: readonly string[],
    between: { after: number; until: number },
    limit: number,
  ): Promise<ChangedRecord[]> {
    return readChanged(db, collections, between, limit);
  }

  /**
   * Delivers entries after the listener's position.
   * @returns a function that stops
   */
  follow(environment: Environment, listener: FeedListener): () => void {
    let tail = this.#tails.get(environment.id);
    if (!tail) {
      tail = new Tail(this, environment, this.changes, this.log, () => this.#tails.delete(environment.id));
      this.#tails.set(environment.id, tail);
    }
    return apart(() => (tail as Tail).add(listener));
  }
}

/** Reads the feed of one environment for all listeners of this instance. */
class Tail {
  readonly #listeners = new Set<FeedListener>();
  #catchingUp = false;
  #position = -1;
  #running = false;
  #again = false;
  #stopListening: () => void = () => undefined;
  #soon: NodeJS.Timeout | undefined;
  #poll: NodeJS.Timeout | undefined;
  #tick: NodeJS.Timeout | undefined;

  constructor(
    private readonly feed: Feed,
    private readonly environment: Environment,
    private readonly changes: ChangeSignal,
    private readonly log: Logger,
    private readonly ended: () => void,
  ) {}

  add(listener: FeedListener): () => void {
    this.#listeners.add(listener);
    if (this.#listeners.size === 1) {
      this.#stopListening = this.changes.listen(this.environment.id, () => this.#runSoon());
      this.#poll = setInterval(() => void this.#run(), POLL_MS);
      this.#tick = setInterval(() => {
        for (const one of this.#listeners) one.tick(this.#position);
      }, TICK_MS);
    }
    void this.#catchUp();
    void this.#run();
    return () => {
      if (!this.#listeners.delete(listener) || this.#listeners.size > 0) return;
      this.#stopListening();
      clearTimeout(this.#soon);
      clearInterval(this.#poll);
      clearInterval(this.#tick);
      this.ended();
    };
  }

  /**
   * Brings listeners that had no room, or started at their own position, up to the others. What several of them have before
   * them is read once: when an instance ends, hundreds come to another one at the same moment.
   */
  async #catchUp(): Promise<void> {
    if (this.#catchingUp) return;
    this.#catchingUp = true;
    try {
      for (let hasMoved = true; hasMoved; ) hasMoved = await this.#bringOn(this.#behind());
    } catch (error) {
      this.#note(error);
    } finally {
      this.#catchingUp = false;
    }
  }

  #behind(): FeedListener[] {
    return [...this.#listeners].filter(({ hasRoom, position }) => hasRoom && position < this.#position);
  }

  /** Gives each its next entries, so that one far behind holds up no other. @returns whether any took some */
  async #bringOn(behind: readonly FeedListener[]): Promise<boolean> {
    let hasMoved = false;
    let waiting = behind.toSorted((a, b) => a.position - b.position);
    for (let [first] = waiting; first; [first] = waiting) {
      const entries = await this.feed.read(this.environment, first.position);
      const last = entries.at(-1)?.number ?? first.position;
      const together = waiting.filter(({ position }) => position < last);
      waiting = waiting.slice(Math.max(1, together.length));
      const before = together.map(({ position }) => position);
      await Promise.all(together.map((listener) => listener.take(entries)));
      hasMoved ||= together.some(({ position }, i) => position !== before[i]);
    }
    return hasMoved;
  }

  #runSoon(): void {
    this.#soon ??= setTimeout(() => {
      this.#soon = undefined;
      void this.#run();
    }, GATHER_MS);
  }

  async #run(): Promise<void> {
    if (this.#running) {
      this.#again = true;
      return;
    }
    this.#running = true;
    try {
      do {
        this.#again = false;
        await this.#step();
      } while (this.#again && this.#listeners.size > 0);
    } catch (error) {
      this.#note(error);
    } finally {
      this.#running = false;
    }
  }

  async #step(): Promise<void> {
    const highest = await this.feed.settle(this.environment);
    if (this.#position < 0) this.#position = highest;
    while (this.#position < highest && this.#listeners.size > 0) {
      const from = this.#position;
      const entries = await this.feed.read(this.environment, from);
      const last = entries.at(-1);
      if (!last) break;
      const level = [...this.#listeners].filter(({ position }) => position === from);
      this.#position = last.number;
      await Promise.all(level.map((listener) => listener.take(entries)));
    }
    void this.#catchUp();
  }

  /** While the database is unavailable listeners wait; the next poll tries again. Those of an environment that moved away end soon. */
  #note(error: unknown): void {
    if (!isDatabaseAway(error) && !(error instanceof MovedAway))
      this.log.error({ err: error, environment: this.environment.id }, 'the change feed could not be read');
  }
}
