/**
 * The change feed of each environment, as it is read. Triggers write entries inside the transaction of each change;
 * their numbers are handed out here, after the commit and by one instance at a time. So a number is never followed by
 * a lower one, and whoever resumes after a number misses nothing.
 */
import type { Logger } from 'pino';
import { apart, isDatabaseAway } from '../database/connection.js';
import { readInPieces } from '../database/pieces.js';
import type { Environment } from '../call.js';
import type { ChangeSignal } from './changeSignal.js';
import type { EnvironmentDatabase } from '../database/environmentDatabase.js';
import { feedCounterTable, feedTable } from './tables.js';

export type FeedRow = {
  number: number;
  collection: string;
  recordId: string;
  action: 'create' | 'update' | 'delete';
  version: number;
  at: Date;
  by: string;
  before: string | null;
  after: string | null;
};

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
/** Changes that come close together are numbered in one transaction. */
const GATHER_MS = 12;
const TICK_MS = 5_000;
const NUMBER_AT_ONCE = 2_000;
/** Entries hold whole records, so how many are read at once follows from how large they are. */
const READ = { least: 1, first: 8, most: 256, bytes: 2_000_000 } as const;

export class Feed {
  readonly #tails = new Map<string, Tail>();
  readonly #limits = new Map<string, number>();

  constructor(
    private readonly changes: ChangeSignal,
    private readonly log: Logger,
  ) {}

  /** Gives numbers to everything committed, and answers the highest. */
  async settle({ db }: Environment): Promise<number> {
    for (;;) {
      const [state] = await db.rows<{ highest: number; pending: number }>(
        `SELECT number AS highest, EXISTS (SELECT 1 FROM ${db.of(feedTable)} WHERE number = 0) AS pending FROM ${db.of(feedCounterTable)}`,
      );
      if (!Number(state?.pending)) return Number(state?.highest ?? 0);
      const { highest, more } = await this.#number(db);
      if (!more) return highest;
    }
  }

  /**
   * Numbers come from one row, locked until they are given out, so that they stay one after another: on a Galera
   * cluster too, where the second of two commits that changed the row fails and is done again.
   */
  #number(db: EnvironmentDatabase): Promise<{ highest: number; more: boolean }> {
    return db.transaction(async (on) => {
      const [counter] = await on.rows<{ number: number }>(`SELECT number FROM ${db.of(feedCounterTable)} FOR UPDATE`);
      const base = Number(counter?.number ?? 0);
      const pending = await on.rows<{ entry: number }>(
        `SELECT entry FROM ${db.of(feedTable)} WHERE number = 0 ORDER BY entry LIMIT ${NUMBER_AT_ONCE}`,
      );
      if (pending.length === 0) return { highest: base, more: false };
      const highest = base + pending.length;
      // Entries are named one by one: a range would wait for those between them that have not committed.
      await on.run('SET @orchard_number := ?', [base]);
      await on.run(`UPDATE ${db.of(feedTable)} SET number = (@orchard_number := @orchard_number + 1) WHERE entry IN (?) ORDER BY entry`, [
        pending.map(({ entry }) => entry),
      ]);
      await on.change(`UPDATE ${db.of(feedCounterTable)} SET number = ?`, [highest]);
      return { highest, more: pending.length === NUMBER_AT_ONCE };
    });
  }

  /** The lowest number that is still kept; 0 when there is none. */
  async oldest(environment: Environment): Promise<number> {
    const [row] = await environment.db.rows<{ number: number }>(
      `SELECT COALESCE(MIN(number), 0) AS number FROM ${environment.db.of(feedTable)} WHERE number > 0`,
    );
    return Number(row?.number ?? 0);
  }

  /** Entries after a number, in order. */
  async read(environment: Environment, after: number): Promise<FeedRow[]> {
    const limit = this.#limits.get(environment.id) ?? READ.first;
    const rows = await readInPieces(limit, (fewer) => this.#entries(environment, after, fewer));
    const bytes = rows.reduce((sum, row) => sum + (row.before?.length ?? 0) + (row.after?.length ?? 0), 0);
    const fitting = rows.length > 0 ? Math.floor((rows.length * READ.bytes) / Math.max(1, bytes)) : limit;
    this.#limits.set(environment.id, Math.max(READ.least, Math.min(READ.most, limit * 2, fitting)));
    return rows;
  }

  #entries(environment: Environment, after: number, limit: number): Promise<FeedRow[]> {
    return environment.db.rows<FeedRow>(
      `SELECT number, collection, recordId, action, version, at, \`by\`, \`before\`, \`after\` FROM ${environment.db.of(feedTable)} WHERE number > ? ORDER BY number LIMIT ${limit}`,
      [after],
    );
  }

  /** Delivers what comes after the listener's position. @returns a function that ends that */
  follow(environment: Environment, listener: FeedListener): () => void {
    let tail = this.#tails.get(environment.id);
    if (!tail) {
      tail = new Tail(this, environment, this.changes, this.log, () => this.#tails.delete(environment.id));
      this.#tails.set(environment.id, tail);
    }
    return apart(() => (tail as Tail).add(listener));
  }
}

/** Reads the feed of one environment for all who listen on this instance. */
class Tail {
  readonly #listeners = new Set<FeedListener>();
  readonly #catchingUp = new Set<FeedListener>();
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
    void this.#catchUp(listener);
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

  /** Brings one listener from where it is to where the others are. */
  async #catchUp(listener: FeedListener): Promise<void> {
    if (this.#catchingUp.has(listener)) return;
    this.#catchingUp.add(listener);
    try {
      while (this.#listeners.has(listener) && listener.hasRoom && listener.position < this.#position) {
        const before = listener.position;
        const entries = await this.feed.read(this.environment, before);
        await listener.take(entries);
        if (listener.position === before) return; // It has no room; the next step comes back to it.
      }
    } catch (error) {
      this.#note(error);
    } finally {
      this.#catchingUp.delete(listener);
    }
  }

  /** Goes on with listeners that had no room, or came with a position of their own. */
  #resumeBehind(): void {
    for (const listener of this.#listeners) if (listener.position < this.#position) void this.#catchUp(listener);
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
    this.#resumeBehind();
  }

  /** While the database is away listeners wait; the next poll tries again. */
  #note(error: unknown): void {
    if (!isDatabaseAway(error)) this.log.error({ err: error, environment: this.environment.id }, 'the change feed could not be read');
  }
}
