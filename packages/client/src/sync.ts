/** What an app keeps at hand. The part that does it is loaded when the app first declares something. */
import type { Json, JsonObject } from './exports.js';
import type { Conflict, Offline, OnConflict, PendingChange, Scope, SyncCounts, SyncState } from './offline/offline.js';
import type { FileGround, FileWish } from './offline/fileQueue.js';
import type { Backing, QueuedFile } from './offline/types.js';
import { follow } from './records.js';
import type { Session } from './session.js';
import type { Transport } from './transport.js';
import { settable, type Value } from './value.js';

export type SyncOptions = {
  /** Settles a field that both sides changed; undefined leaves it as the collection says. */
  onConflict?: OnConflict;
  /** `false`: it syncs only when `sync()` is called. */
  automatic?: boolean;
  /** Where the copy is kept, such as `fileStore(path)` in Node; IndexedDB without it. */
  store?: (name: string) => Promise<Backing>;
};
export type SyncHandle = {
  /** Syncs now, and ends with what went and came. @throws where the service cannot be reached or refuses */
  (): Promise<SyncCounts>;
  /** Says what the device keeps, and loads what it has. Reads of these collections come from the device from then on. */
  declare: (scopes: readonly Scope[], options?: SyncOptions) => Promise<void>;
  state: Value<SyncState>;
  /** Changes that wait or were refused, in their order. */
  pending: () => PendingChange[];
  discard: (change: string) => Promise<void>;
  /** Sends a refused change again with other values. */
  mend: (change: string, fields: JsonObject) => Promise<void>;
  conflicts: () => Conflict[];
  /**
   * Keeps a file on the device and sends it when it can; `field` of the record then refers to it. With `first`, the record's
   * changes wait for it. @returns its name in the queue
   */
  queueFile: (wish: FileWish) => Promise<string>;
  /** Files that wait to be sent, such as a photo to show already. */
  queuedFiles: () => QueuedFile[];
  /** Keeps what stands, or with `{ value }` puts another in its place. */
  settle: (conflict: string, value?: { value: Json }) => Promise<void>;
};
/** Thrown by a sign-out while changes wait: say what becomes of them. */
export class ChangesWaiting extends Error {
  constructor(readonly count: number) {
    super(`${count} changes on this device have not reached the service. Sync first, or sign out with { pending: 'discard' }.`);
    this.name = 'ChangesWaiting';
  }
}

type Declared = { scopes: readonly Scope[]; options: SyncOptions };
const IDLE: SyncState = {
  connected: null,
  syncing: false,
  lastSyncedAt: null,
  filled: false,
  pending: 0,
  refused: 0,
  conflicts: 0,
  files: 0,
  failing: null,
  kept: false,
};

export class SyncControl {
  readonly #state = settable<SyncState>(IDLE);
  #declared: Declared | null = null;
  #offline: Promise<Offline> | null = null;
  #open: Offline | null = null;
  #user: string | null = null;
  #stop: (() => void) | undefined;
  readonly #others = new Set<() => void>();
  readonly handle: SyncHandle;

  constructor(
    private readonly transport: Transport,
    private readonly session: Session,
    private readonly name: string,
    private readonly ground: {
      now: () => number;
      newId: () => string;
      /** Names this device; without a name where it is not registered, and its page says nothing of the sync then. */
      headers: () => Promise<Record<string, string>>;
      warn: (text: string) => void;
      sendFile: FileGround['send'];
    },
  ) {
    this.handle = Object.assign(async () => (await this.#demand()).sync(), {
      declare: (scopes: readonly Scope[], options: SyncOptions = {}) => this.#declare(scopes, options),
      state: this.#state as Value<SyncState>,
      pending: () => [...(this.#open?.local.pending.values() ?? [])].sort((a, b) => a.order - b.order),
      discard: async (id: string) => (await this.#demand()).discard(id),
      mend: async (id: string, fields: JsonObject) => (await this.#demand()).mend(id, fields),
      conflicts: () => this.#open?.conflictList() ?? [],
      queueFile: async (wish: FileWish) => (await this.#demand()).queue(wish),
      queuedFiles: () => [...(this.#open?.local.files.values() ?? [])],
      settle: async (id: string, value?: { value: Json }) => (await this.#demand()).settle(id, value),
    });
    session.user.subscribe((user) => void this.#follow(user));
  }

  async #demand(): Promise<Offline> {
    if (!this.#offline) throw new Error('Nothing is declared to be kept on this device. Call `orchard.sync.declare([…])` first.');
    return this.#offline;
  }

  /** The local copy of a collection; null where the device keeps none. */
  async of(collection: string): Promise<Offline | null> {
    if (!this.#declared?.scopes.some((scope) => scope.collection === collection)) return null;
    const offline = await this.#demand();
    // What there is no room for is read from the service.
    return offline.covers(collection) ? offline : null;
  }

  /** The same where it is loaded already. */
  openOf(collection: string): Offline | null {
    return this.#open?.covers(collection) ? this.#open : null;
  }

  /** Calls `listener` when another copy is there, such as that of another user. */
  onOther(listener: () => void): () => void {
    this.#others.add(listener);
    return () => void this.#others.delete(listener);
  }

  async #declare(scopes: readonly Scope[], options: SyncOptions): Promise<void> {
    await this.#close();
    this.#declared = { scopes, options };
    this.#user = (await this.session.kept()).tokens?.user.id ?? null;
    await this.#load();
  }

  async #load(): Promise<void> {
    const { scopes, options } = this.#declared as Declared;
    const userId = this.#user;
    const own = async () => ({ headers: await this.ground.headers(), timeLimitMs: 60_000 });
    this.#offline = import('./offline/index.js').then(({ openOffline }) =>
      openOffline({
        name: `${this.name}:${userId ?? 'nobody'}`,
        scopes,
        me: () => ({
          id: userId,
          roles: this.session.user.current?.roles ?? [],
          fields: (this.session.user.current?.data ?? {}) as JsonObject,
        }),
        now: this.ground.now,
        newId: this.ground.newId,
        pull: async (body) => this.transport.call('sync.pull', { body }, await own()),
        push: async (changes) => this.transport.call('sync.push', { body: { changes } }, await own()),
        sendFile: (file, began) => this.ground.sendFile(file, began),
        watch: ({ collection, filter }, wake) => {
          const open = (more: Record<string, string>, signal: AbortSignal) =>
            this.transport.open('records.live', { params: { collection }, query: filter ? { filter } : {} }, { headers: more, signal });
          return follow(open, ({ event }) => event !== 'ready' && wake());
        },
        onConflict: options.onConflict,
        backing: options.store,
        automatic: options.automatic ?? true,
        warn: this.ground.warn,
      }),
    );
    const open = await this.#offline;
    this.#open = open;
    this.#stop = open.state.subscribe((state) => this.#state.set(state));
    this.#state.set(open.state.current);
    for (const listener of [...this.#others]) listener();
    open.soon();
  }

  /** Another user has another copy; other roles of the same one are other rights. */
  async #follow(user: { id: string } | null): Promise<void> {
    if (!this.#declared) return;
    if ((user?.id ?? null) === this.#user) return this.#open?.compareSoon();
    this.#user = user?.id ?? null;
    await this.#close();
    await this.#load();
  }

  async #close(): Promise<void> {
    this.#stop?.();
    const offline = await this.#offline;
    this.#open = null;
    this.#offline = null;
    await offline?.close();
  }

  /** Before a sign-out. @throws {ChangesWaiting} */
  async leave(pending: 'ask' | 'discard'): Promise<void> {
    const offline = await this.#offline;
    if (!offline || this.#user === null) return;
    const waiting = offline.local.pending.size;
    if (waiting > 0 && pending === 'ask') throw new ChangesWaiting(waiting);
    await offline.wipe();
  }
}
