/** Days that are open in memory, shared by the threads: read once, by one of them, for all questions. */
import { BASE_COLUMNS, bytesOfSegment, type Segment } from '@orchard/core/insight';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type PackedDayRow, readColumns } from '../events/segmentStore.js';
import type { SharedPeople } from './spec.js';
import type { QuestionThread } from './thread.js';

/** Bytes of open days, about; those in use are kept beyond it. */
const MOST_BYTES = 180_000_000;

/** A day as it was packed, in the thread that opened it. */
type PackedDay = {
  database: string;
  opener: QuestionThread;
  columns: Set<string>;
  busy: Promise<unknown>;
  /** Questions that are opening it: it cannot be forgotten meanwhile. */
  opening: number;
};
/** A day as of some people: those who became another are replaced. */
export type OpenDay = {
  key: string;
  day: string;
  aliases: number;
  columns: Set<string>;
  segment: Segment;
  bytes: number;
  users: number;
  /** The threads that have it. */
  readonly threads: Set<QuestionThread>;
};

export class OpenDays {
  readonly #packed = new Map<string, PackedDay>();
  /** In the order of their last use. */
  readonly #open = new Map<string, OpenDay>();
  #bytes = 0;
  #opened = 0;

  /** Days of a database that are open now. */
  segmentsOf({ name }: EnvironmentDatabase): Segment[] {
    return [...this.#open.values()].flatMap(({ day, segment }) => (this.#packed.get(day)?.database === name ? [segment] : []));
  }

  /** A day with these columns, for a question that says when it needs it no more: see {@link release}. */
  async use(
    db: EnvironmentDatabase,
    row: PackedDayRow,
    asked: readonly string[],
    people: SharedPeople,
    threads: readonly QuestionThread[],
  ): Promise<OpenDay> {
    const day = `${db.name} ${row.day} ${row.version}`;
    const key = `${day} ${people.aliases}`;
    const packed = this.#packedDay(day, db, threads);
    const needed = [...BASE_COLUMNS.filter((name) => name !== 'visit'), ...asked];
    const open = () => {
      const known = this.#open.get(key);
      return known && needed.every((name) => known.columns.has(name)) ? known : null;
    };
    packed.opening++;
    // One question at a time opens a day; the next finds what it left.
    const turn = packed.busy.then(() => open() ?? this.#read(db, row, { day, key, needed, packed, people }));
    packed.busy = turn.catch(() => undefined);
    const using = turn.then((one) => {
      one.users++;
      return one;
    });
    const found = await using.finally(() => packed.opening--);
    this.#open.delete(key);
    this.#open.set(key, found);
    return found;
  }

  #packedDay(day: string, db: EnvironmentDatabase, threads: readonly QuestionThread[]): PackedDay {
    let packed = this.#packed.get(day);
    if (!packed) {
      const opener = threads[this.#opened++ % threads.length] as QuestionThread;
      this.#packed.set(day, (packed = { database: db.name, opener, columns: new Set(), busy: Promise.resolve(), opening: 0 }));
    }
    return packed;
  }

  async #read(
    db: EnvironmentDatabase,
    row: PackedDayRow,
    { day, key, needed, packed, people }: { day: string; key: string; needed: string[]; packed: PackedDay; people: SharedPeople },
  ): Promise<OpenDay> {
    const missing = needed.filter((name) => !packed.columns.has(name));
    // Copies of their own can be handed over; what the driver read lies in a larger buffer.
    const columns = [...(missing.length > 0 ? await readColumns(db, row.day, missing) : [])].map(([name, bytes]): [string, Uint8Array] => [
      name,
      Uint8Array.from(bytes),
    ]);
    const asked = { day, at: Date.parse(row.day), rows: row.rows, columns, people };
    const segment = await packed.opener.call(
      'open',
      asked,
      columns.map(([, bytes]) => bytes.buffer as ArrayBuffer),
    );
    for (const name of missing) packed.columns.add(name);
    const before = this.#open.get(key);
    const bytes = bytesOfSegment(segment);
    this.#bytes += bytes - (before?.bytes ?? 0);
    // Whoever uses it already goes on with the same entry.
    const found: OpenDay = before ?? {
      key,
      day,
      aliases: people.aliases,
      columns: new Set(),
      segment,
      bytes,
      users: 0,
      threads: new Set(),
    };
    Object.assign(found, { segment, bytes, columns: new Set(packed.columns) });
    found.threads.clear();
    this.#open.set(key, found);
    return found;
  }

  /** Sees to it that a thread has a day. */
  hand(open: OpenDay, thread: QuestionThread): void {
    if (open.threads.has(thread)) return;
    open.threads.add(thread);
    thread.tell({ call: 'take', key: open.key, segment: open.segment });
  }

  /** The question that used them has ended: what is old, or too much, is forgotten. */
  release(used: readonly OpenDay[], aliases: number, threads: readonly QuestionThread[]): void {
    for (const open of used) open.users--;
    const days = new Set(used.map(({ day }) => day));
    const [keys, packed]: [string[], string[]] = [[], []];
    for (const [key, open] of this.#open) {
      if (open.users > 0 || this.#packed.get(open.day)?.opening) continue;
      const isOld = days.has(open.day) && open.aliases < aliases;
      if (!isOld && this.#bytes <= MOST_BYTES) continue;
      this.#open.delete(key);
      this.#bytes -= open.bytes;
      keys.push(key);
      if (isOld) continue;
      this.#packed.delete(open.day);
      packed.push(open.day);
    }
    if (keys.length > 0) for (const thread of threads) thread.tell({ call: 'forget', keys, days: packed });
  }

  clear(): void {
    this.#packed.clear();
    this.#open.clear();
    this.#bytes = 0;
  }
}
