import { asc, eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { signingRequestTable } from './tables.js';

export type SigningRequestRow = typeof signingRequestTable.$inferSelect;

export class SigningRequestStore {
  list({ db }: Environment): Promise<SigningRequestRow[]> {
    const table = db.table(signingRequestTable);
    return db.orm.select().from(table).orderBy(asc(table.createdAt), asc(table.id));
  }

  async byPublicKey({ db }: Environment, publicKey: string): Promise<SigningRequestRow | null> {
    const table = db.table(signingRequestTable);
    return (await db.orm.select().from(table).where(eq(table.publicKey, publicKey)))[0] ?? null;
  }

  async add({ db }: Environment, row: SigningRequestRow): Promise<void> {
    await db.orm.insert(db.table(signingRequestTable)).values(row);
  }

  async remove({ db }: Environment, id: string): Promise<boolean> {
    const table = db.table(signingRequestTable);
    const [{ affectedRows }] = await db.orm.delete(table).where(eq(table.id, id));
    return affectedRows > 0;
  }
}
