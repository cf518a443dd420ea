/** Source maps as rows. */
import { and, desc, eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { sourceMapTable } from './tables.js';

type Place = Pick<Environment, 'db'>;
type Row = typeof sourceMapTable.$inferSelect;

export async function writeSourceMap({ db }: Place, row: Row): Promise<void> {
  const { map, sources, at } = row;
  await db.orm.insert(db.table(sourceMapTable)).values(row).onDuplicateKeyUpdate({ set: { map, sources, at } });
}

export async function readSourceMap({ db }: Place, version: string, file: string): Promise<string | null> {
  const [row] = await db.orm
    .select({ map: sourceMapTable.map })
    .from(db.table(sourceMapTable))
    .where(and(eq(sourceMapTable.version, version), eq(sourceMapTable.file, file)));
  return row?.map ?? null;
}

export async function listSourceMaps({ db }: Place) {
  const { version, file, sources, at } = sourceMapTable;
  const rows = await db.orm.select({ version, file, sources, at }).from(db.table(sourceMapTable)).orderBy(desc(at)).limit(1_000);
  return rows.map((row) => ({ ...row, at: row.at.toISOString() }));
}
