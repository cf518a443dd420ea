/** The local copy in IndexedDB: each batch is one transaction. */
import { deleteDB, type IDBPDatabase, openDB } from 'idb';
import { type Backing, type Batch, FORMAT, type Loaded } from './types.js';

const STORES = ['rows', 'pending', 'conflicts', 'files', 'facts'] as const;

/**
 * @param onOld called when another tab opens a newer version of the app, which needs this one to let go
 * @throws an error named VersionError, where the store is of a newer library
 */
export async function indexedBacking(name: string, onOld: () => void): Promise<Backing> {
  const database = await openDB(name, FORMAT, {
    upgrade: (made) => {
      made.createObjectStore('rows', { keyPath: ['collection', 'id'] });
      made.createObjectStore('pending', { keyPath: 'id' });
      made.createObjectStore('conflicts', { keyPath: 'id' });
      made.createObjectStore('files', { keyPath: 'id' });
      made.createObjectStore('facts');
    },
    blocking: () => {
      onOld();
      database.close();
    },
  });
  return {
    durable: true,
    shared: true,
    load: () => load(database),
    commit: (batch) => commit(database, batch),
    clear: async () => {
      const all = database.transaction(STORES, 'readwrite');
      await Promise.all(STORES.map((store) => all.objectStore(store).clear()));
      await all.done;
    },
    close: async () => database.close(),
  };
}

/** Deletes a store that cannot be read any more. */
export const forgetStore = (name: string): Promise<void> => deleteDB(name);

async function load(database: IDBPDatabase): Promise<Loaded> {
  const all = database.transaction(STORES, 'readonly');
  const [rows, pending, conflicts, files, names, values] = await Promise.all([
    all.objectStore('rows').getAll(),
    all.objectStore('pending').getAll(),
    all.objectStore('conflicts').getAll(),
    all.objectStore('files').getAll(),
    all.objectStore('facts').getAllKeys(),
    all.objectStore('facts').getAll(),
  ]);
  return { rows, pending, conflicts, files, facts: Object.fromEntries(names.map((name, i) => [String(name), values[i]])) };
}

async function commit(database: IDBPDatabase, batch: Batch): Promise<void> {
  const { rows = [], gone = [], pending = [], done = [], conflicts = [], settled = [], files = [], sentFiles = [], facts = {} } = batch;
  const all = database.transaction(STORES, 'readwrite', { durability: pending.length > 0 ? 'strict' : 'relaxed' });
  const [rowStore, pendingStore, conflictStore, fileStore, factStore] = STORES.map((name) => all.objectStore(name));
  for (const row of rows) void rowStore?.put(row);
  for (const { collection, id } of gone) void rowStore?.delete([collection, id]);
  for (const change of pending) void pendingStore?.put(change);
  for (const id of done) void pendingStore?.delete(id);
  for (const conflict of conflicts) void conflictStore?.put(conflict);
  for (const id of settled) void conflictStore?.delete(id);
  for (const file of files) void fileStore?.put(file);
  for (const id of sentFiles) void fileStore?.delete(id);
  for (const [name, value] of Object.entries(facts)) void factStore?.put(value, name);
  await all.done;
}
