/** The local copy of one user: records, pending changes and conflicts, in memory, and kept by its backing. */
import type { Json, JsonObject } from '@orchard/core';
import type { Asking } from '@orchard/core/filter';
import { hasFieldChanges, readFieldChanges } from '@orchard/core/fieldChanges';
import { own } from '@orchard/core/json';
import { applied, combined, isCombinable, wholeValues } from './applied.js';
import { LocalCollection } from './collection.js';
import { Filters, type LocalQuery, type Page, query } from './query.js';
import type { Backing, Batch, Conflict, Loaded, LocalRecord, PendingChange, QueuedFile, Shape } from './types.js';

export type LocalGround = {
  backing: Backing;
  me: () => Asking['me'];
  now: () => number;
  newId: () => string;
  /** Makes room where the device has none left. @returns whether it could */
  makeRoom: () => Promise<boolean>;
  /** Tells other tabs. */
  share: (batch: Batch) => void;
};

/** Whether a device has no room left (Storage standard; IndexedDB 3.0 section 3.3). */
export const isFull = (error: unknown): boolean => (error as Error).name === 'QuotaExceededError';

export class Local {
  readonly collections = new Map<string, LocalCollection>();
  readonly pending = new Map<string, PendingChange>();
  readonly conflicts = new Map<string, Conflict>();
  readonly files = new Map<string, QueuedFile>();
  readonly facts: Record<string, Json>;
  /** Changes that are on their way to the service. */
  readonly inFlight = new Set<string>();
  readonly #filters = new Map<string, Filters>();
  readonly #listeners = new Map<string, Set<() => void>>();
  #told = new Set<string>();

  constructor(
    private readonly ground: LocalGround,
    { rows, pending, conflicts, files, facts }: Loaded,
  ) {
    this.facts = facts;
    for (const row of rows) this.collection(row.collection).put(row);
    const sent = new Set(facts.sent as string[] | undefined);
    for (const change of pending.sort((a, b) => a.order - b.order))
      this.pending.set(change.id, sent.has(change.id) ? { ...change, attempts: Math.max(1, change.attempts) } : change);
    for (const conflict of conflicts) this.conflicts.set(conflict.id, conflict);
    for (const file of files) this.files.set(file.id, file);
    for (const { collection, record } of pending) this.#refresh(collection, record);
  }

  collection(name: string): LocalCollection {
    let found = this.collections.get(name);
    if (!found) {
      found = new LocalCollection();
      this.collections.set(name, found);
    }
    return found;
  }

  shape(collection: string): Shape | undefined {
    return this.facts[`shape ${collection}`] as Shape | undefined;
  }

  /** Calls `listener` after changes of a collection, those made together once. */
  listen(collection: string, listener: () => void): () => void {
    const listeners = this.#listeners.get(collection) ?? new Set();
    this.#listeners.set(collection, listeners.add(listener));
    return () => void listeners.delete(listener);
  }

  #tell(collection: string): void {
    if (this.#told.size === 0) queueMicrotask(() => this.#tellAll());
    this.#told.add(collection);
  }

  #tellAll(): void {
    const told = this.#told;
    this.#told = new Set();
    // A query may follow references into other collections.
    const heard = new Set([...told, '*'].flatMap((name) => [...(this.#listeners.get(name) ?? [])]));
    for (const listener of heard) listener();
  }

  /** Keeps a batch, and then shows it here and in other tabs: what cannot be kept is not shown. */
  async commit(batch: Batch): Promise<void> {
    await this.ground.backing.commit(batch);
    this.take(batch);
    this.ground.share(batch);
  }

  /** Shows a write of the app at once, and keeps it; one that cannot be kept is taken back. */
  async #write(batch: Batch): Promise<void> {
    const before = [...(batch.pending ?? []), ...(batch.done ?? []).map((id) => ({ id }))].map(
      ({ id }) => [id, this.pending.get(id)] as const,
    );
    this.take(batch);
    try {
      await this.#keep(batch);
    } catch (error) {
      const kept = before.flatMap(([, change]) => change ?? []);
      this.take({ done: before.filter(([, change]) => !change).map(([id]) => id), pending: kept });
      throw error;
    }
    this.ground.share(batch);
  }

  /** What the person wrote is worth more than what can be fetched again. */
  async #keep(batch: Batch): Promise<void> {
    try {
      await this.ground.backing.commit(batch);
    } catch (error) {
      if (!isFull(error) || !(await this.ground.makeRoom())) throw error;
      await this.ground.backing.commit(batch);
    }
  }

  /** Notes that changes are on their way: from here on they may have been taken, whether or not an answer comes. */
  async noteSent(changes: readonly PendingChange[]): Promise<void> {
    await this.ground.backing.commit({ facts: { sent: changes.map(({ id }) => id) } });
    for (const change of changes) this.pending.set(change.id, { ...change, attempts: change.attempts + 1 });
  }

  /** One write of the app after another: each begins from what the one before it left. */
  #writing: Promise<unknown> = Promise.resolve();
  #inTurn<T>(write: () => Promise<T>): Promise<T> {
    const turn = this.#writing.then(write);
    this.#writing = turn.catch(() => undefined);
    return turn;
  }

  /** Shows a batch that is kept already. */
  take({
    rows = [],
    gone = [],
    pending = [],
    done = [],
    conflicts = [],
    settled = [],
    files = [],
    sentFiles = [],
    facts = {},
  }: Batch): void {
    const touched = new Map<string, { collection: string; record: string }>();
    const touch = (collection: string, record: string) => touched.set(`${collection}/${record}`, { collection, record });
    for (const row of rows) {
      this.collection(row.collection).put(row);
      touch(row.collection, row.id);
    }
    for (const { collection, id } of gone) {
      this.collection(collection).drop(id);
      touch(collection, id);
    }
    for (const change of pending) {
      this.pending.set(change.id, change);
      touch(change.collection, change.record);
    }
    for (const id of done) {
      const change = this.pending.get(id);
      if (!change) continue;
      this.pending.delete(id);
      touch(change.collection, change.record);
    }
    for (const conflict of conflicts) this.conflicts.set(conflict.id, conflict);
    for (const id of settled) this.conflicts.delete(id);
    for (const file of files) this.files.set(file.id, file);
    for (const id of sentFiles) this.files.delete(id);
    for (const [name, value] of Object.entries(facts)) {
      this.facts[name] = value;
      if (name.startsWith('shape ')) this.#filters.clear();
    }
    for (const { collection, record } of touched.values()) this.#refresh(collection, record);
    if (conflicts.length + settled.length + pending.length + done.length + files.length + sentFiles.length > 0) this.#tell('*');
  }

  /** A record as the service has it, with the changes over it that were not refused. */
  #refresh(collection: string, id: string): void {
    const own = this.collection(collection);
    const changes = this.changesOf(collection, id).filter(({ state }) => state === 'waiting');
    let record: LocalRecord | null = own.rows.get(id)?.record ?? null;
    for (const change of changes) record = applied(record, change, this.shape(collection), this.ground.me().id);
    own.overlay(id, changes.length > 0 ? record : undefined);
    this.#tell(collection);
  }

  changesOf(collection: string, id: string): PendingChange[] {
    return [...this.pending.values()].filter((change) => change.collection === collection && change.record === id);
  }

  /** @throws {FilterError} */
  query(collection: string, asked: LocalQuery): Page {
    const own = this.collection(collection);
    // Nothing came yet, so that nobody knows what the fields hold.
    if (own.size === 0 && !this.shape(collection)) return { items: [] };
    const asking = { me: this.ground.me(), now: this.ground.now() };
    return query(
      { all: () => own.all(), size: own.size, having: (field, values) => own.having(field, values) },
      this.#filtersOf(collection),
      asking,
      asked,
      (record, path) => this.related(collection, record, path),
    );
  }

  #sample(collection: string, field: string): Json | undefined {
    for (const record of this.collection(collection).all()) if ((record[field] ?? null) !== null) return record[field];
    return undefined;
  }

  #filtersOf(collection: string): Filters {
    let filters = this.shape(collection) && this.#filters.get(collection);
    if (!filters) {
      filters = new Filters(
        collection,
        (name) => this.shape(name),
        this.ground.me,
        (of, field) => this.#sample(of, field),
      );
      this.#filters.set(collection, filters);
    }
    return filters;
  }

  /** The record that a path of references leads to; null where the device does not have it. */
  related(collection: string, record: LocalRecord, path: string): LocalRecord | null {
    let at: LocalRecord | null = record;
    let from: string | undefined = collection;
    for (const step of path.split('.')) {
      from = from && this.shape(from)?.references[step];
      const id: Json | undefined = at?.[step];
      at = from && typeof id === 'string' ? this.collection(from).read(id) : null;
    }
    return at;
  }

  create(collection: string, { id = this.ground.newId(), ...fields }: JsonObject): Promise<LocalRecord> {
    return this.#inTurn(async () => {
      await this.#add({ collection, record: String(id), action: 'create', fields, seen: {}, version: 0 });
      return this.collection(collection).read(String(id)) as LocalRecord;
    });
  }

  /** Changes some fields (merge patch). @returns null where the device does not have the record */
  change(collection: string, id: string, patch: JsonObject): Promise<LocalRecord | null> {
    return this.#inTurn(() => this.#change(collection, id, patch));
  }

  async #change(collection: string, id: string, patch: JsonObject): Promise<LocalRecord | null> {
    const record = this.collection(collection).read(id);
    if (!record) return null;
    const fields = wholeValues(record, patch);
    const plain = hasFieldChanges(fields) ? readFieldChanges(fields).plain : fields;
    const seen = Object.fromEntries(Object.keys(plain).map((name) => [name, own(record, name) ?? null]));
    const last = this.#unsent(collection, id).at(-1);
    if (last && last.action !== 'remove' && isCombinable(last, fields))
      await this.#write({ pending: [{ ...last, ...combined(last, fields, last.action === 'create' ? {} : seen) }] });
    else await this.#add({ collection, record: id, action: 'change', fields, seen, version: record.version });
    return this.collection(collection).read(id);
  }

  /** @returns whether the device had the record */
  remove(collection: string, id: string): Promise<boolean> {
    return this.#inTurn(() => this.#remove(collection, id));
  }

  async #remove(collection: string, id: string): Promise<boolean> {
    const record = this.collection(collection).read(id);
    if (!record) return false;
    const unsent = this.#unsent(collection, id);
    const done = unsent.map((change) => change.id);
    // Nobody has heard of it yet.
    if (unsent.some(({ action }) => action === 'create')) await this.#write({ done });
    else {
      const version = unsent[0]?.version ?? record.version;
      await this.#write({ done, pending: [this.#made({ collection, record: id, action: 'remove', fields: {}, seen: {}, version })] });
    }
    return true;
  }

  /** Changes of a record that no attempt has sent: one that was sent may have been taken, though its answer was lost. */
  #unsent(collection: string, id: string): PendingChange[] {
    return this.changesOf(collection, id).filter(
      (change) => change.state === 'waiting' && change.attempts === 0 && !this.inFlight.has(change.id),
    );
  }

  #made(change: Pick<PendingChange, 'collection' | 'record' | 'action' | 'fields' | 'seen' | 'version'>): PendingChange {
    const last = [...this.pending.values()].reduce((most, { order }) => Math.max(most, order), 0);
    // Two tabs may make one at the same moment; each record's own changes keep their order.
    const order = Math.max(last + 1, this.ground.now());
    return { ...change, id: this.ground.newId(), order, at: new Date(this.ground.now()).toISOString(), attempts: 0, state: 'waiting' };
  }

  #add(change: Pick<PendingChange, 'collection' | 'record' | 'action' | 'fields' | 'seen' | 'version'>): Promise<void> {
    return this.#write({ pending: [this.#made(change)] });
  }

  /** Changes that may go out now, in their order. */
  waiting(): PendingChange[] {
    return [...this.pending.values()].filter(({ state, waitsFor }) => state === 'waiting' && !waitsFor).sort((a, b) => a.order - b.order);
  }

  async clear(): Promise<void> {
    for (const [name, own] of this.collections) {
      own.clear();
      this.#tell(name);
    }
    this.pending.clear();
    this.conflicts.clear();
    this.files.clear();
    for (const name of Object.keys(this.facts)) delete this.facts[name];
    await this.ground.backing.clear();
  }
}
