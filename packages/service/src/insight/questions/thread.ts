/** The questions' side of the thread: which days it has open, what it needs, and its answers. */
import { Worker } from 'node:worker_threads';
import { threadFile } from '../../platform/threads/threadFile.js';
import { grouped } from '@orchard/core';
import { BASE_COLUMNS, DAY_MS, type InsightEvent } from '@orchard/core/insight';
import type { Logger } from 'pino';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { EventParts } from '../events/capability.js';
import { readEvents } from '../events/eventStore.js';
import { eventsOfRows } from '../events/packing.js';
import type { KnownPeople } from '../events/peopleStore.js';
import { type PackedDayRow, packedDays, readColumns } from '../events/segmentStore.js';
import type { Answers, FromThread, Spec, ToThread } from './spec.js';

/** Bytes of open days in the thread, about. */
const MOST_BYTES = 180_000_000;
/** Days sent that the thread has not looked through yet. */
const IN_FLIGHT = 4;
const BYTES_OF_COLUMN = 3;

/** Days read so far, of how many. */
export type QuestionProgress = { done: number; total: number };
/** Who waits for an answer. */
export type Watch = {
  /** Ends the work when nobody waits any more. */
  signal?: AbortSignal | undefined;
  progress?: ((progress: QuestionProgress) => void) | undefined;
};
export type Reading = { from: number; until: number /** Besides those that every question needs. */; columns: readonly string[] };
type Open = { columns: Set<string>; bytes: number };
type Waiting = { done: () => void; answer: (answer: unknown) => void; failed: (error: Error) => void };

export class QuestionThread {
  #worker: Worker | null = null;
  #next = 1;
  readonly #waiting = new Map<number, Waiting>();
  /** In the order of their last use. */
  readonly #open = new Map<string, Open>();
  #bytes = 0;
  readonly #sentPeople = new Map<string, number>();

  constructor(
    private readonly events: EventParts,
    private readonly log: Logger,
    private readonly now: () => number,
  ) {}

  async ask<Kind extends Spec['kind']>(
    db: EnvironmentDatabase,
    spec: Extract<Spec, { kind: Kind }>,
    reading: Reading,
    { signal, progress }: Watch = {},
  ): Promise<{ answer: Answers[Kind]; people: KnownPeople }> {
    const id = this.#next++;
    let inFlight = 0;
    let done = 0;
    let total = 0;
    let wake: (() => void) | null = null;
    const answered = new Promise<unknown>((resolve, reject) => {
      this.#waiting.set(id, {
        done: () => {
          inFlight--;
          progress?.({ done: ++done, total });
          wake?.();
        },
        answer: resolve,
        failed: (error) => {
          reject(error);
          wake?.();
        },
      });
    });
    // Looked at below; a failure meanwhile is not unhandled.
    answered.catch(() => undefined);
    try {
      // Everything is read as of one moment, so that packing meanwhile changes nothing.
      const people = await db.unit(async () => {
        const known = await this.events.people.known(db);
        this.#tellPeople(db, known);
        this.#tell({ kind: 'begin', id, spec, people: db.name, now: this.now() });
        const hasRoom = async () => {
          while (inFlight >= IN_FLIGHT && this.#waiting.has(id))
            await new Promise<void>((resolve) => {
              wake = resolve;
            });
          signal?.throwIfAborted();
          inFlight++;
        };
        await this.#readDays(db, id, reading, hasRoom, (days) => {
          total = days;
        });
        return known;
      });
      this.#tell({ kind: 'end', id });
      return { answer: (await answered) as Answers[Kind], people };
    } catch (error) {
      this.#tell({ kind: 'cancel', id });
      throw error;
    } finally {
      this.#waiting.delete(id);
      this.#evict();
    }
  }

  /** Sends the days of a period in order, each with what is packed and what is not. */
  async #readDays(
    db: EnvironmentDatabase,
    id: number,
    { from, until, columns }: Reading,
    hasRoom: () => Promise<void>,
    tellDays: (count: number) => void,
  ): Promise<void> {
    const packed = new Map((await packedDays(db, from, until)).map((row) => [Date.parse(row.day), row]));
    const rows = await readEvents(db, from, until);
    const extra = grouped(await eventsOfRows(db, this.events.contexts, rows), ({ at }) => Math.floor(at / DAY_MS) * DAY_MS);
    const days = [...new Set([...packed.keys(), ...extra.keys()])].sort((a, b) => a - b);
    tellDays(days.length);
    for (const day of days) {
      await hasRoom();
      const row = packed.get(day);
      const more: InsightEvent[] = extra.get(day) ?? [];
      if (row) await this.#sendDay(db, id, row, columns, more);
      else this.#tell({ kind: 'day', id, key: null, day, rows: 0, columns: [], extra: more });
    }
  }

  /** What the thread has open can change while columns are read, by other questions; so it is looked at again before sending. */
  async #sendDay(db: EnvironmentDatabase, id: number, row: PackedDayRow, columns: readonly string[], extra: InsightEvent[]): Promise<void> {
    const key = keyOf(db, row);
    const needed = [...BASE_COLUMNS.filter((name) => name !== 'visit'), ...columns];
    const read = new Map<string, Buffer>();
    const asked = new Set<string>();
    for (;;) {
      const open = this.#open.get(key)?.columns;
      const missing = needed.filter((name) => !open?.has(name) && !asked.has(name));
      if (missing.length === 0) break;
      for (const name of missing) asked.add(name);
      for (const [name, bytes] of await readColumns(db, row.day, missing)) read.set(name, bytes);
    }
    this.#tell({ kind: 'day', id, key, day: Date.parse(row.day), rows: row.rows, columns: [...read], extra });
    this.#noteOpen(key, row.rows, asked, read.size);
  }

  #noteOpen(key: string, rows: number, asked: ReadonlySet<string>, read: number): void {
    const open = this.#open.get(key) ?? { columns: new Set<string>(), bytes: 0 };
    // Moves to the end: used last.
    this.#open.delete(key);
    this.#open.set(key, open);
    for (const name of asked) open.columns.add(name);
    const grown = rows * BYTES_OF_COLUMN * read;
    open.bytes += grown;
    this.#bytes += grown;
  }

  #evict(): void {
    const keys: string[] = [];
    for (const [key, { bytes }] of this.#open) {
      if (this.#bytes <= MOST_BYTES) break;
      this.#open.delete(key);
      this.#bytes -= bytes;
      keys.push(key);
    }
    if (keys.length > 0) this.#tell({ kind: 'forget', keys });
  }

  #tellPeople(db: EnvironmentDatabase, { count, alias, firstSeen, aliases, version }: KnownPeople): void {
    this.#start();
    if (this.#sentPeople.get(db.name) === version) return;
    this.#sentPeople.set(db.name, version);
    this.#tell({ kind: 'people', people: { name: db.name, count, alias: alias.slice(), firstSeen: firstSeen.slice(), aliases, version } });
  }

  #tell(message: ToThread): void {
    this.#worker?.postMessage(message);
  }

  #start(): void {
    if (this.#worker) return;
    const worker = new Worker(threadFile(new URL('./worker.js', import.meta.url)));
    this.#worker = worker;
    worker.unref();
    worker.on('message', (message: FromThread) => this.#hear(message));
    worker.on('error', (error) => this.#lost(error));
    worker.on('exit', (code) => this.#lost(new Error(`the thread for questions ended with ${code}`)));
  }

  #hear(message: FromThread): void {
    const waiting = this.#waiting.get(message.id);
    if (!waiting) return;
    if (message.kind === 'done') return waiting.done();
    this.#waiting.delete(message.id);
    if (message.kind === 'answer') waiting.answer(message.answer);
    else waiting.failed(new Error(message.message));
  }

  /** The thread died: what waited fails, and the next question starts another. */
  #lost(error: Error): void {
    if (!this.#worker) return;
    this.#worker = null;
    this.#open.clear();
    this.#bytes = 0;
    this.#sentPeople.clear();
    for (const waiting of this.#waiting.values()) waiting.failed(error);
    if (this.#waiting.size > 0) this.log.error({ err: error }, 'the thread for questions died');
    this.#waiting.clear();
  }

  async stop(): Promise<void> {
    const worker = this.#worker;
    this.#worker = null;
    await worker?.terminate();
  }
}

const keyOf = (db: EnvironmentDatabase, { day, version }: PackedDayRow): string => `${db.name} ${day} ${version}`;
