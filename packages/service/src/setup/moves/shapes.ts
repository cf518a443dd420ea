/** How the tables of an environment are made at this moment, to see which of them changed while they were copied. */
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { BackupKey } from '../backups/sealing.js';
import { readTables } from '../backups/structureDdl.js';
import { TableReader, TablesChanged } from '../backups/threads/tableReader.js';

/** Nothing is stored: the key only names what passes by. */
export const PASSING = new BackupKey('00'.repeat(32));

/** A table's structure without what changes with every row. */
export function shapeOf(create: string): string;
export function shapeOf(create: string | undefined): string | undefined;
export function shapeOf(create: string | undefined): string | undefined {
  return create?.replace(/ AUTO_INCREMENT=\d+/, '');
}

/** How often it is read again where a table is dropped while it is read. */
const TRIES = 5;

/** By the names of the tables. */
export async function shapesOf(db: EnvironmentDatabase): Promise<Map<string, string>> {
  for (let tried = 1; ; tried++) {
    const reader = new TableReader(db.server.url, PASSING, 'digests');
    try {
      await reader.begin();
      return new Map((await readTables(reader, db.name)).map(({ name, create }) => [name, shapeOf(create)]));
    } catch (error) {
      if (!(error instanceof TablesChanged) || tried === TRIES) throw error;
    } finally {
      await reader.close();
    }
  }
}
