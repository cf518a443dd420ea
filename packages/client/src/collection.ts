/** One collection, wherever its records are: at the service, or kept on the device. */
import type { JsonObject, OrchardRecord } from './exports.js';
import type { LocalRecord, Offline } from './offline/offline.js';
import { Problem, Unreachable } from './problem.js';
import { type ListQuery, type RecordList, type ServiceCollection, serviceCollection } from './records.js';
import type { SyncControl } from './sync.js';
import type { CallOptions, Transport } from './transport.js';
import { type Settable, settable, type Value } from './value.js';

/** Where a read is answered from: the device, the service if it can be reached, or the service alone. */
export type From = 'device' | 'freshest' | 'service';
export type ReadOptions = CallOptions & { from?: From };
/** What a live list holds. `from` says whose answer it is; `problem` why there is none. */
export type LiveList<R> = { items: R[]; ready: boolean; from: 'device' | 'service'; problem?: Error };
export type LiveRecord<R> = { record: R | null; ready: boolean; from: 'device' | 'service'; problem?: Error };

export type CollectionHandle<R = OrchardRecord> = Omit<ServiceCollection<R>, 'read' | 'list'> & {
  /** Of a collection that is kept on the device, from there unless `from` says otherwise. */
  read: (id: string, options?: ReadOptions & { include?: string }) => Promise<R>;
  list: (query?: ListQuery, options?: ReadOptions) => Promise<RecordList<R>>;
  /** A list that stays up to date while somebody is subscribed to it. */
  live: (query?: ListQuery) => Value<LiveList<R>>;
  liveRecord: (id: string) => Value<LiveRecord<R>>;
};

const absent = (collection: string, id: string) =>
  new Problem({
    type: '/docs/problems/not-found',
    title: 'Not found',
    status: 404,
    detail: `There is no ${collection}/${id} on this device.`,
  });
const numberOf = (limit: unknown) => (limit === undefined ? {} : { limit: Number(limit) });

export function collectionHandle(
  transport: Transport,
  sync: SyncControl,
  collection: string,
  warn: (text: string) => void,
): CollectionHandle {
  const service = serviceCollection(transport, collection);
  /** A write on the device is kept at once, and goes out as soon as it can. */
  const locally = async <T>(write: (offline: Offline) => Promise<T>): Promise<{ done: T } | null> => {
    const offline = await sync.of(collection);
    if (!offline) return null;
    const done = await write(offline);
    offline.soon();
    return { done };
  };
  const listLocally = (offline: Offline, { filter, sort, limit, cursor, include }: ListQuery): RecordList<OrchardRecord> => {
    const page = offline.local.query(collection, { filter, sort, cursor, ...numberOf(limit) });
    return { ...page, items: page.items.map((record) => shown(offline, record, include)) };
  };
  const shown = (offline: Offline, record: LocalRecord, include: string | undefined): OrchardRecord => {
    if (!include) return record as never;
    const paths = include.split(',').map((path) => path.trim());
    return {
      ...record,
      _included: Object.fromEntries(paths.map((path) => [path, offline.local.related(collection, record, path)])),
    } as never;
  };
  /** From where the options say; without a word, from the device where it keeps the collection. */
  const answered = async <T>(from: From | undefined, local: (offline: Offline) => T, remote: () => Promise<T>): Promise<T> => {
    const offline = await sync.of(collection);
    if (!offline || from === 'service') return remote();
    if (from !== 'freshest') return local(offline);
    try {
      await offline.sync();
    } catch (error) {
      if (!(error instanceof Unreachable)) throw error;
    }
    return local(offline);
  };
  const readLocally = (offline: Offline, id: string, include: string | undefined): OrchardRecord => {
    const record = offline.local.collection(collection).read(id);
    if (!record) throw absent(collection, id);
    return shown(offline, record, include);
  };
  const handle: CollectionHandle = {
    ...service,
    create: async (fields, options) =>
      ((await locally(({ local }) => local.create(collection, fields as JsonObject)))?.done as never) ?? service.create(fields, options),
    change: async (id, fields, version, options) => {
      const changed = version === undefined ? await locally(({ local }) => local.change(collection, id, fields as JsonObject)) : null;
      return (changed?.done as never) ?? service.change(id, fields, version, options);
    },
    remove: async (id, version, options) => {
      const removed = version === undefined ? await locally(({ local }) => local.remove(collection, id)) : null;
      if (!removed?.done) await service.remove(id, version, options);
    },
    read: (id, { from, include, ...options } = {}) =>
      answered(
        from,
        (offline) => readLocally(offline, id, include),
        () => service.read(id, { ...options, ...(include ? { include } : {}) }),
      ),
    list: (query = {}, { from, ...options } = {}) =>
      answered(
        from,
        (offline) => listLocally(offline, query),
        () => service.list(query, options),
      ),
    live: (query = {}) => {
      const value: Settable<LiveList<OrchardRecord>> = settable<LiveList<OrchardRecord>>({ items: [], ready: false, from: 'service' }, () =>
        followed<LiveList<OrchardRecord>>(
          value.set,
          (offline) => ({
            ...listLocally(offline, query),
            ready: offline.state.current.filled || offline.local.collection(collection).size > 0,
            from: 'device',
          }),
          async () => ({ ...(await service.list(query)), ready: true, from: 'service' }),
          (again, failed) => service.watch(query.filter ? { filter: query.filter } : {}, again, failed),
          (problem) => value.set({ ...value.current, problem }),
        ),
      );
      const offline = sync.openOf(collection);
      if (offline) value.set({ ...listLocally(offline, query), ready: true, from: 'device' });
      return value;
    },
    liveRecord: (id) => {
      const value: Settable<LiveRecord<OrchardRecord>> = settable<LiveRecord<OrchardRecord>>(
        { record: null, ready: false, from: 'service' },
        () =>
          followed<LiveRecord<OrchardRecord>>(
            value.set,
            (offline) => ({ record: offline.local.collection(collection).read(id) as never, ready: true, from: 'device' }),
            async () => ({
              record: await service
                .read(id)
                .catch((error) => (error instanceof Problem && error.status === 404 ? null : Promise.reject(error))),
              ready: true,
              from: 'service',
            }),
            (again, failed) =>
              service.watch(
                { id },
                ({ event }) => {
                  if (event === 'absent') warn(`There is no ${collection}/${id}: it is watched, and was never there. Is the id right?`);
                  else if (event !== 'current') again();
                },
                failed,
              ),
            (problem) => value.set({ ...value.current, problem }),
          ),
      );
      return value;
    },
  };
  /** Follows the local copy, or the service, until the returned function is called; another user has another copy. */
  function followed<T>(
    set: (value: T) => void,
    local: (offline: Offline) => T,
    remote: () => Promise<T>,
    watch: (again: () => void, failed: (problem: Error) => void) => () => void,
    failed: (problem: Error) => void,
  ): () => void {
    let end: () => void = () => undefined;
    let round = 0;
    const begin = async () => {
      const own = ++round;
      end();
      end = () => undefined;
      const offline = await sync.of(collection);
      if (own !== round) return;
      if (offline) end = followLocal(offline, () => set(local(offline)), failed);
      else end = followService(remote, (value) => own === round && set(value), watch, failed);
    };
    const start = () => void begin().catch(failed);
    const stop = sync.onOther(start);
    start();
    return () => {
      round = -1;
      stop();
      end();
    };
  }

  function followLocal(offline: Offline, set: () => void, failed: (problem: Error) => void): () => void {
    const show = () => {
      try {
        set();
      } catch (error) {
        failed(error as Error);
      }
    };
    let { filled } = offline.state.current;
    const ends = [
      offline.local.listen(collection, show),
      offline.state.subscribe((state) => {
        if (state.filled === filled) return;
        filled = state.filled;
        show();
      }),
    ];
    show();
    return () => {
      for (const one of ends) one();
    };
  }
  return handle;
}

/** Asks the service, and again after each change that it tells of; changes while it is asked make it ask once more. */
function followService<T>(
  remote: () => Promise<T>,
  set: (value: T) => void,
  watch: (again: () => void, failed: (problem: Error) => void) => () => void,
  failed: (problem: Error) => void,
): () => void {
  let [asking, again] = [false, false];
  const ask = async () => {
    again = asking;
    if (asking) return;
    asking = true;
    await remote().then(set, failed);
    asking = false;
    if (again) void ask();
  };
  void ask();
  return watch(() => void ask(), failed);
}
