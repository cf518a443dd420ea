/** Sign-ins that are under way at providers, as rows. */
import { eq, lt } from 'drizzle-orm';
import { hashKey } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { outsideSignInTable } from './tables.js';

export type OutsideSignIn = typeof outsideSignInTable.$inferSelect;

export class SignInStore {
  async begin({ db }: Environment, row: OutsideSignIn): Promise<void> {
    const { stateHash, requestHash, way, verifier, nonce, expiresAt } = row;
    await db.orm.insert(db.table(outsideSignInTable)).values({ stateHash, requestHash, way, verifier, nonce, expiresAt });
  }

  /** One that comes back, once. */
  async end({ db }: Environment, state: string, now: Date): Promise<OutsideSignIn | null> {
    const table = db.table(outsideSignInTable);
    const [row] = await db.orm
      .select()
      .from(table)
      .where(eq(table.stateHash, hashKey(state)));
    if (!row) return null;
    const [{ affectedRows }] = await db.orm.delete(table).where(eq(table.stateHash, row.stateHash));
    return affectedRows === 1 && row.expiresAt > now ? row : null;
  }

  async forget({ db }: Environment, before: Date): Promise<void> {
    const table = db.table(outsideSignInTable);
    await db.orm.delete(table).where(lt(table.expiresAt, before));
  }
}
