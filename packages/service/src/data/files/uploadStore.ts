/** Uploads in parts, upload addresses and share links, as rows. */
import type { JsonObject } from '@orchard/core';
import { and, eq, gt, isNull, lt, or, sql } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { shareLinkTable, uploadTable } from './tables.js';

export type UploadRow = typeof uploadTable.$inferSelect;
export type ShareLinkRow = typeof shareLinkTable.$inferSelect;

const read = (row: UploadRow | undefined): UploadRow | null =>
  row ? { ...row, properties: storedJson(row.properties), author: storedJson<JsonObject>(row.author) } : null;

export async function addUpload({ db }: Environment, row: UploadRow): Promise<void> {
  await db.orm.insert(db.table(uploadTable)).values(row);
}

export async function findUpload({ db }: Environment, id: string): Promise<UploadRow | null> {
  const [row] = await db.orm
    .select()
    .from(db.table(uploadTable))
    .where(and(eq(uploadTable.id, id), eq(uploadTable.kind, 'parts')));
  return read(row);
}

export async function findUploadAddress({ db }: Environment, secret: string): Promise<UploadRow | null> {
  const [row] = await db.orm
    .select()
    .from(db.table(uploadTable))
    .where(and(eq(uploadTable.secret, secret), eq(uploadTable.kind, 'address')));
  return read(row);
}

export async function setUploadSize({ db }: Environment, id: string, size: number): Promise<void> {
  await db.orm.update(db.table(uploadTable)).set({ size }).where(eq(uploadTable.id, id));
}

/** Takes an upload address for one upload. @returns whether nobody else has it */
export async function claimUpload({ db }: Environment, id: string, now: Date): Promise<boolean> {
  const [{ affectedRows }] = await db.orm
    .update(db.table(uploadTable))
    .set({ usedAt: now })
    .where(and(eq(uploadTable.id, id), isNull(uploadTable.usedAt)));
  return affectedRows === 1;
}

/** Gives an upload address back, after an upload that came to nothing. */
export async function releaseUpload({ db }: Environment, id: string): Promise<void> {
  await db.orm.update(db.table(uploadTable)).set({ usedAt: null }).where(eq(uploadTable.id, id));
}

export async function removeUpload({ db }: Environment, id: string): Promise<void> {
  await db.orm.delete(db.table(uploadTable)).where(eq(uploadTable.id, id));
}

export async function endUploads({ db }: Environment, now: Date): Promise<void> {
  await db.orm.delete(db.table(uploadTable)).where(lt(uploadTable.until, now));
}

/** The uploads in parts that may still go on, by id. */
export async function awaitedUploads({ db }: Environment): Promise<Set<string>> {
  const rows = await db.orm.select({ id: uploadTable.id }).from(db.table(uploadTable)).where(eq(uploadTable.kind, 'parts'));
  return new Set(rows.map(({ id }) => id));
}

export async function addShareLink({ db }: Environment, row: ShareLinkRow): Promise<void> {
  await db.orm.insert(db.table(shareLinkTable)).values(row);
}

export async function findShareLink({ db }: Environment, secret: string): Promise<ShareLinkRow | null> {
  const [row] = await db.orm.select().from(db.table(shareLinkTable)).where(eq(shareLinkTable.secret, secret));
  return row ?? null;
}

export const listShareLinks = ({ db }: Environment, now: Date): Promise<ShareLinkRow[]> =>
  db.orm
    .select()
    .from(db.table(shareLinkTable))
    .where(
      and(
        or(isNull(shareLinkTable.until), gt(shareLinkTable.until, now)),
        or(isNull(shareLinkTable.count), gt(shareLinkTable.count, shareLinkTable.used)),
      ),
    )
    .limit(1000);

/** Counts a download. @returns whether there may be one more */
export async function countShare({ db }: Environment, id: string): Promise<boolean> {
  const [{ affectedRows }] = await db.orm
    .update(db.table(shareLinkTable))
    .set({ used: sql`${shareLinkTable.used} + 1` })
    .where(and(eq(shareLinkTable.id, id), or(isNull(shareLinkTable.count), gt(shareLinkTable.count, shareLinkTable.used))));
  return affectedRows === 1;
}

export async function removeShareLink({ db }: Environment, id: string): Promise<boolean> {
  const [{ affectedRows }] = await db.orm.delete(db.table(shareLinkTable)).where(eq(shareLinkTable.id, id));
  return affectedRows > 0;
}
