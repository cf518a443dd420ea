/** The local copy of one user, and how it comes up to date. */
import type { PushedChange, SyncPulled, SyncPushed, SyncScope } from '@orchard/contract';
import type { Json, JsonObject } from '@orchard/core';
import type { Asking } from '@orchard/core/filter';
import { exclusively } from '../storage.js';
import { type Settable, settable, type Value } from '../value.js';
import { isFull, Local } from './local.js';
import { type FileGround, type FileWish, queueFile, sendFiles } from './fileQueue.js';
import { keyOf, Puller } from './pull.js';
import { type OnConflict, pushAll } from './push.js';
import type { Backing, Batch, Conflict, Loaded, PendingChange, Scope } from './types.js';

export type { Conflict, LocalRecord, PendingChange, Scope } from './types.js';
export type { OnConflict } from './push.js';
export type SyncCounts = { sent: number; taken: number; refused: number; conflicts: number; received: number; gone: number };
export type SyncState = {
  /** Whether the service answered last time; null before the first. */
  connected: boolean | null;
  syncing: boolean;
  lastSyncedAt: string | null;
  /** Whether every scope was filled at least once. */
  filled: boolean;
  /** Changes that wait, those that the service refused, and conflicts that are not settled. */
  pending: number;
  refused: number;
  conflicts: number;
  /** Files that wait to be sent. */
  files: number;
  /** Why it does not sync; null where it does. */
  failing: { why: 'unreachable' | 'refused' | 'signed-out' | 'storage' | 'newer-store'; detail: string } | null;
  /** Whether the local copy outlives the app. */
  kept: boolean;
};
export type OfflineGround = {
  name: string;
  scopes: readonly Scope[];
  me: () => Asking['me'];
  now: () => number;
  newId: () => string;
  pull: (body: { scopes: SyncScope[]; pending: number; conflicts: number }) => Promise<SyncPulled>;
  push: (changes: PushedChange[]) => Promise<SyncPushed>;
  sendFile: FileGround['send'];
  onConflict?: OnConflict | undefined;
  /** Where the copy is kept; IndexedDB without it. */
  backing?: ((name: string) => Promise<Backing>) | undefined;
  /** Calls `wake` whenever something of a scope changes. @returns a function that stops */
  watch: (scope: Scope, wake: () => void) => () => void;
  /** Whether it syncs by itself. */
  automatic: boolean;
  warn: (text: string) => void;
};

/** How often it looks for changes by itself, and how soon after a change of the device. */
const [EVERY_MS, SOON_MS] = [20_000, 50];
const [FIRST_WAIT_MS, LONGEST_WAIT_MS] = [1_000, 60_000];

export class Offline {
  readonly local: Local;
  readonly #state: Settable<SyncState>;
  /** Those that the device has room for, the most important first. */
  #scopes: readonly Scope[];
  readonly #dropped: string[] = [];
  readonly #alone: ReturnType<typeof exclusively>;
  readonly #tabs: BroadcastChannel | null;
  readonly #ends: (() => void)[] = [];
  #running: Promise<SyncCounts> | null = null;
  #again = false;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #wait = FIRST_WAIT_MS;
  /** Copies are compared at start and when somebody else's rights may hold. */
  #compare = true;
  #ended = false;

  constructor(
    private readonly ground: OfflineGround,
    private readonly backing: Backing,
    loaded: Loaded,
    failing: SyncState['failing'],
  ) {
    this.#scopes = ground.scopes;
    this.#alone = exclusively(`${ground.name}:sync`);
    this.#tabs = typeof BroadcastChannel === 'undefined' || !backing.shared ? null : new BroadcastChannel(ground.name);
    this.#tabs?.addEventListener('message', ({ data }) => this.local.take(data as Batch));
    this.local = new Local(
      {
        backing,
        me: ground.me,
        now: ground.now,
        newId: ground.newId,
        makeRoom: () => this.#makeRoom(),
        share: (batch) => this.#tabs?.postMessage(batch),
      },
      loaded,
    );
    for (const { collection, indexes = [] } of this.#scopes) for (const field of indexes) this.local.collection(collection).index(field);
    this.#state = settable<SyncState>({
      connected: null,
      syncing: false,
      lastSyncedAt: (this.local.facts.lastSyncedAt as string | undefined) ?? null,
      filled: false,
      pending: 0,
      refused: 0,
      conflicts: 0,
      files: 0,
      failing,
      kept: backing.durable,
    });
    this.#count();
    this.#ends.push(this.local.listen('*', () => this.#count()));
    if (ground.automatic) this.#listen();
  }

  get state(): Value<SyncState> {
    return this.#state;
  }

  covers(collection: string): boolean {
    return this.#scopes.some((scope) => scope.collection === collection);
  }

  #count(): void {
    const all = [...this.local.pending.values()];
    const filled = this.#scopes.every((scope) =>
      Boolean((this.local.facts[`scope ${keyOf(scope)}`] as { filledAt?: number } | undefined)?.filledAt),
    );
    const refused = all.filter(({ state }) => state === 'refused').length;
    this.#tell({ pending: all.length - refused, refused, conflicts: this.local.conflicts.size, files: this.local.files.size, filled });
  }

  #tell(changes: Partial<SyncState>): void {
    const next = { ...this.#state.current, ...changes };
    if (JSON.stringify(next) !== JSON.stringify(this.#state.current)) this.#state.set(next);
  }

  /** Syncs now; a round that is under way is followed by another, which has everything written before this call. */
  sync(): Promise<SyncCounts> {
    if (!this.#running) return this.#run();
    this.#again = true;
    return this.#running.catch(() => undefined).then(() => this.#running ?? (this.#again ? this.#run() : this.sync()));
  }

  #run(): Promise<SyncCounts> {
    this.#again = false;
    clearTimeout(this.#timer);
    this.#tell({ syncing: true });
    // One tab at a time.
    this.#running = this.#alone(() => this.#round())
      .then(
        (counts) => this.#succeed(counts),
        (error) => this.#fail(error as Error),
      )
      .finally(() => {
        this.#running = null;
        this.#count();
        this.#tell({ syncing: false });
        this.#plan();
      });
    return this.#running;
  }

  async #round(): Promise<SyncCounts> {
    const { push, now, newId, onConflict } = this.ground;
    const { local } = this;
    await sendFiles({ local, send: this.ground.sendFile }, ({ path }, error) =>
      this.ground.warn(`${path} is not stored: ${error.message}`),
    );
    const pushed = await pushAll({ local, push, now, newId, onConflict });
    const refused: string[] = [];
    const pulled = await this.#pull((text) => refused.push(text));
    this.#compare = false;
    if (this.#dropped.length > 0)
      this.#tell({
        failing: { why: 'storage', detail: `There is no room on this device for ${this.#dropped.join(', ')}. It keeps the rest.` },
      });
    else if (refused.length > 0) this.#tell({ failing: { why: 'refused', detail: refused.join(' ') } });
    else if (this.#state.current.failing?.why !== 'newer-store') this.#tell({ failing: null });
    // What a function of the app settled meanwhile goes out at once.
    if (local.waiting().length > 0) this.#again = true;
    return { ...pushed, ...pulled };
  }

  /** Where the device has no room for all scopes, the one that was declared last goes first. */
  async #pull(refused: (text: string) => void): Promise<Pick<SyncCounts, 'received' | 'gone'>> {
    const onProblem = ({ collection }: Scope, { detail }: { detail: string }) => refused(`${collection}: ${detail}`);
    for (;;) {
      try {
        return await this.#puller(onProblem).run(this.#compare);
      } catch (error) {
        if (!isFull(error) || !(await this.#makeRoom())) throw error;
      }
    }
  }

  #puller(onProblem: (scope: Scope, problem: { detail: string }) => void = () => undefined): Puller {
    const { pull, now } = this.ground;
    return new Puller({ local: this.local, scopes: this.#scopes, pull, now, onProblem });
  }

  async #makeRoom(): Promise<boolean> {
    const last = this.#scopes.at(-1);
    if (!last || this.#scopes.length === 1) return false;
    this.#scopes = this.#scopes.slice(0, -1);
    this.#dropped.push(last.collection);
    this.ground.warn(`There is no room on this device for ${last.collection}.`);
    await this.#puller().forgetOthers();
    return true;
  }

  async #succeed(counts: SyncCounts): Promise<SyncCounts> {
    this.#wait = FIRST_WAIT_MS;
    const lastSyncedAt = new Date(this.ground.now()).toISOString();
    this.#tell({ connected: true, lastSyncedAt });
    if (counts.taken + counts.received + counts.gone > 0) await this.local.commit({ facts: { lastSyncedAt } });
    return counts;
  }

  #fail(error: Error): never {
    const { status } = error as Error & { status?: number };
    const why = isFull(error)
      ? 'storage'
      : status === 401
        ? 'signed-out'
        : status !== undefined && status < 500 && status !== 429
          ? 'refused'
          : 'unreachable';
    this.#tell({ ...(why === 'unreachable' ? { connected: false } : {}), failing: { why, detail: error.message } });
    throw error;
  }

  /** After a change of roles or of the session, rights may be others: the next round compares. */
  compareSoon(): void {
    this.#compare = true;
    this.soon();
  }

  soon(): void {
    if (!this.ground.automatic || this.#ended) return;
    clearTimeout(this.#timer);
    this.#again ||= this.#running !== null;
    this.#timer = setTimeout(() => void this.sync().catch(() => undefined), SOON_MS);
  }

  #plan(): void {
    if (!this.ground.automatic || this.#ended) return;
    const { failing } = this.#state.current;
    const isFailing = failing !== null && failing.why !== 'refused';
    if (this.#again && !isFailing) return this.soon();
    // At random, so that devices that lost the service together do not come back together.
    const wait = isFailing ? this.#wait * (0.5 + Math.random()) : EVERY_MS * (0.75 + Math.random() / 2);
    if (isFailing) this.#wait = Math.min(LONGEST_WAIT_MS, this.#wait * 2);
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.sync().catch(() => undefined), wait);
    (this.#timer as { unref?: () => void }).unref?.();
  }

  #listen(): void {
    for (const scope of this.#scopes) if (scope.live) this.#ends.push(this.ground.watch(scope, () => this.soon()));
    const heard = () => {
      this.#wait = FIRST_WAIT_MS;
      if ((globalThis as { document?: Document }).document?.visibilityState !== 'hidden') this.soon();
    };
    for (const [target, type] of [
      [globalThis, 'online'],
      [(globalThis as { document?: Document }).document, 'visibilitychange'],
    ] as const) {
      target?.addEventListener?.(type, heard);
      this.#ends.push(() => target?.removeEventListener?.(type, heard));
    }
  }

  /** Keeps a file, and sends it when it can. @returns its name in the queue */
  async queue(wish: FileWish): Promise<string> {
    const id = await queueFile({ local: this.local, newId: this.ground.newId }, wish);
    this.soon();
    return id;
  }

  /** Discards a change that the service refused, or that waits; the local copy goes back to what the service has. */
  async discard(id: string): Promise<void> {
    const change = this.local.pending.get(id);
    if (!change || this.local.inFlight.has(id)) return;
    const held = this.#heldBy(change);
    await this.local.commit({ done: [id, ...(change.action === 'create' ? held.map((one) => one.id) : [])] });
  }

  /** Sends a refused change again with other values of some fields. */
  async mend(id: string, fields: JsonObject): Promise<void> {
    const change = this.local.pending.get(id);
    if (!change) return;
    const mended: PendingChange = {
      ...change,
      id: this.ground.newId(),
      fields: { ...change.fields, ...fields },
      attempts: 0,
      state: 'waiting',
    };
    delete mended.problem;
    await this.local.commit({
      done: [id],
      pending: [mended, ...this.#heldBy(change).map((one): PendingChange => ({ ...one, state: 'waiting' }))],
    });
    this.soon();
  }

  #heldBy({ record }: PendingChange): PendingChange[] {
    return [...this.local.pending.values()].filter(
      (one) => one.state === 'held' && (one.record === record || Object.values(one.fields).includes(record)),
    );
  }

  /** Settles a conflict: what was kept stays, or the device's value, or another one takes its place. */
  async settle(id: string, value?: { value: Json }): Promise<void> {
    const conflict = this.local.conflicts.get(id);
    if (!conflict) return;
    if (value) await this.local.change(conflict.collection, conflict.record, { [conflict.field]: value.value });
    await this.local.commit({ settled: [id] });
    this.soon();
  }

  conflictList(): Conflict[] {
    return [...this.local.conflicts.values()];
  }

  /** Forgets everything of this user on this device. */
  async wipe(): Promise<void> {
    await this.end();
    await this.local.clear();
  }

  async end(): Promise<void> {
    this.#ended = true;
    clearTimeout(this.#timer);
    for (const end of this.#ends) end();
    await this.#running?.catch(() => undefined);
    this.#tabs?.close();
    clearTimeout(this.#timer);
  }

  async close(): Promise<void> {
    await this.end();
    await this.backing.close();
  }
}
