/** Where the library keeps what must outlive the app: the session, the device's secret, events that wait. */

/** Keeps one text across restarts of the app. */
export type Storage = { read: () => string | null | Promise<string | null>; write: (value: string | null) => void | Promise<void> };

type LocalStorage = { getItem(key: string): string | null; setItem(key: string, value: string): void; removeItem(key: string): void };

/** localStorage in a page, IndexedDB in a worker, and memory elsewhere. */
export function defaultStorage(name: string): Storage {
  const { localStorage: local } = globalThis as { localStorage?: LocalStorage };
  if (local)
    return { read: () => local.getItem(name), write: (value) => (value === null ? local.removeItem(name) : local.setItem(name, value)) };
  if (typeof indexedDB !== 'undefined') return indexedStorage(name);
  let kept: string | null = null;
  return {
    read: () => kept,
    write: (value) => {
      kept = value;
    },
  };
}

function indexedStorage(name: string): Storage {
  const settled = <T>(request: IDBRequest<T>) =>
    new Promise<T>((resolve, reject) => {
      request.onsuccess = () => resolve(request.result);
      request.onerror = () => reject(request.error);
    });
  let opened: Promise<IDBDatabase> | undefined;
  const open = () => {
    if (!opened) {
      const request = indexedDB.open(`${name}:kept`, 1);
      request.onupgradeneeded = () => request.result.createObjectStore('kept');
      opened = settled(request);
    }
    return opened;
  };
  const store = async (mode: IDBTransactionMode) => (await open()).transaction('kept', mode).objectStore('kept');
  return {
    read: async () => ((await settled((await store('readonly')).get('all'))) as string | undefined) ?? null,
    write: async (value) => {
      const kept = await store('readwrite');
      await settled((value === null ? kept.delete('all') : kept.put(value, 'all')) as IDBRequest<unknown>);
    },
  };
}

/** Runs work while no other tab holds the lock of this name (Web Locks API); without such locks, at once. */
export function exclusively(name: string): <T>(work: () => Promise<T>) => Promise<T> {
  const { locks } = (globalThis as { navigator?: Navigator }).navigator ?? ({} as Partial<Navigator>);
  return (work) => (locks ? (locks.request(name, work) as ReturnType<typeof work>) : work());
}
