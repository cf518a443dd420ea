/** Fills a database of its own from a backup. */
import type { ArchiveManifest, ArchiveTable } from '@orchard/contract';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type Archive, DamagedObject } from './archive.js';
import type { BackupKey } from './sealing.js';
import { makingOf, type TableStructure } from './structureDdl.js';
import { completeTable, makeTables } from './tableDdl.js';
import { DamagedPart, TableLoader } from './threads/tableLoader.js';

/** Tables that are filled at a time: the server has one thread for each, and so has the service. */
const AT_ONCE = 2;

export type Opened = { archive: Archive; manifest: ArchiveManifest; key: BackupKey };

/**
 * Makes the tables of a backup in a database, and fills them.
 * @param behind whether calls that are served go first
 * @throws {Problem} backup-unreadable
 */
export async function loadInto(
  { archive, manifest, key }: Opened,
  db: EnvironmentDatabase,
  behind: boolean,
  tell: (doing: string) => Promise<void>,
): Promise<void> {
  await db.drop();
  await db.create();
  const structures = await structuresOf({ archive, manifest, key });
  const makings = new Map(structures.map((structure) => [structure.name, makingOf(structure, db.collection(structure.name))]));
  await makeTables(db, [...makings.values()]);
  const queue = [...manifest.tables].filter(({ rows }) => rows > 0).sort((a, b) => bytesOf(b) - bytesOf(a));
  const fill = async () => {
    const loader = new TableLoader(db.server.url, key, behind);
    try {
      for (let table = queue.shift(); table; table = queue.shift()) {
        await tell(`Filling ${table.name}`);
        await fillTable(archive, table, db.collection(table.name), loader);
        await completeTable(db, makings.get(table.name)?.complete ?? []);
      }
    } catch (error) {
      queue.length = 0;
      throw error instanceof DamagedPart ? new DamagedObject(archive, error.message) : error;
    } finally {
      await loader.close();
    }
  };
  const results = await Promise.allSettled(Array.from({ length: AT_ONCE }, fill));
  for (const result of results) if (result.status === 'rejected') throw result.reason;
  for (const { name, rows } of manifest.tables) if (rows === 0) await completeTable(db, makings.get(name)?.complete ?? []);
}

/** One part is read while the one before is loaded. */
export async function fillTable(archive: Archive, table: ArchiveTable, into: string, loader: TableLoader): Promise<void> {
  await loader.table(table.name, into, table.columns);
  let loading: Promise<void> = Promise.resolve();
  for (const part of table.parts) {
    const packed = await archive.readObject(part.object);
    await loading;
    loading = loader.part(part, packed);
    loading.catch(() => undefined);
  }
  await loading;
  await loader.end();
}

export async function structuresOf({ archive, manifest, key }: Opened): Promise<TableStructure[]> {
  const found: TableStructure[] = [];
  for await (const line of archive.lines([manifest.structure], key)) found.push(JSON.parse(line) as TableStructure);
  return found;
}

const bytesOf = ({ parts }: ArchiveTable): number => parts.reduce((sum, { bytes }) => sum + bytes, 0);
