import { and, eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { renditionTable } from './tables.js';

type RenditionRow = typeof renditionTable.$inferSelect;

export async function findRendition({ db }: Environment, digest: string, form: string): Promise<RenditionRow | null> {
  const [row] = await db.orm
    .select()
    .from(db.table(renditionTable))
    .where(and(eq(renditionTable.digest, digest), eq(renditionTable.form, form)));
  return row ?? null;
}

export async function keepRendition({ db }: Environment, row: RenditionRow): Promise<void> {
  const { content, size, usedAt } = row;
  await db.orm.insert(db.table(renditionTable)).values(row).onDuplicateKeyUpdate({ set: { content, size, usedAt } });
}
