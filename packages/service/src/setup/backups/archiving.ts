/** Writes the tables of an environment to an archive, as they are at one moment. What is there already is not written again. */
import { type ArchiveManifest, type ArchiveTable, Problem } from '@orchard/contract';
import pLimit from 'p-limit';
import type { Environment } from '../../platform/call.js';
import type { Archive } from './archive.js';
import type { BackupKey } from './sealing.js';
import { newestEntry, type ReadableTable, readTables } from './structureDdl.js';
import { TableReader, TablesChanged } from './threads/tableReader.js';

/** How often it starts over because collections changed meanwhile. */
const MOST_STARTS = 10;
/** Tables that are written to the place at a time, in parts. */
const WRITES_AT_ONCE = 3;

type Work = {
  environment: Pick<Environment, 'db'>;
  archive: Archive;
  key: BackupKey;
  /** Names of the objects that are there. */
  known: Set<string>;
  tell: (doing: string) => Promise<void>;
};
export type ArchivedTables = Pick<ArchiveManifest, 'feed' | 'tables' | 'structure'> & {
  at: Date;
  newBytes: number;
  readable: ReadableTable[];
};

/** From the start again where a collection changed its shape meanwhile. @throws {Problem} busy */
export async function archiveTables(work: Work): Promise<ArchivedTables> {
  for (let start = 1; ; start++) {
    const reader = new TableReader(work.environment.db.server.url, work.key, [...work.known]);
    try {
      return await archiveOnce(work, reader);
    } catch (error) {
      if (!(error instanceof TablesChanged)) throw error;
      if (start === MOST_STARTS)
        throw new Problem(
          'busy',
          'Collections changed their shape again and again while the tables were read. Try again once they have settled.',
        );
    } finally {
      await reader.close();
    }
  }
}

async function archiveOnce({ environment, archive, key, known, tell }: Work, reader: TableReader): Promise<ArchivedTables> {
  const at = await reader.begin();
  const tables = await readTables(reader, environment.db.name);
  const feed = await newestEntry(reader, environment.db);
  const structure = await archive.writeLines(
    tables.map(({ name, create }) => JSON.stringify({ name, create })),
    key,
    known,
  );
  const found: ArchiveTable[] = [];
  let newBytes = structure.newBytes;
  const writing = pLimit(WRITES_AT_ONCE);
  const writes = new Set<Promise<void>>();
  let failed: unknown = null;
  for (const table of tables) {
    await tell(`Reading ${table.name}`);
    const parts: ArchiveTable['parts'] = [];
    const reading = reader.read(table);
    let next = await reading.next();
    for (; !next.done; next = await reading.next()) {
      const { part, packed } = next.value;
      parts.push(part);
      known.add(part.object);
      if (!packed) continue;
      newBytes += packed.byteLength;
      const written: Promise<void> = writing(() =>
        archive.writeObject(part.object, Buffer.from(packed.buffer, packed.byteOffset, packed.byteLength)),
      )
        .catch((error) => {
          failed ??= error;
        })
        .finally(() => writes.delete(written));
      writes.add(written);
      if (writes.size > WRITES_AT_ONCE) await Promise.race(writes);
      if (failed) throw failed;
    }
    found.push({ ...archivedTable(table), rows: next.value, parts });
  }
  await Promise.all(writes);
  if (failed) throw failed;
  return { at, feed, tables: found, structure: structure.parts[0] as ArchiveManifest['structure'], newBytes, readable: tables };
}

const archivedTable = ({ name, collection, columns }: ReadableTable) => ({ name, collection, columns });
