/** Requests of the sign-in page, as rows. */
import { and, eq, gt, isNull, lt } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { hashKey } from '../../platform/access/secrets.js';
import { authorizationTable } from './tables.js';

export type Authorization = typeof authorizationTable.$inferSelect;
export type Asked = Pick<Authorization, 'client' | 'redirectUri' | 'challenge' | 'scope' | 'state' | 'nonce'>;
/** Scopes of requests that sign nobody in: they add an account at a provider, or try a way. No app can ask for them. */
export const ADDING = 'add-account';
export const TRYING = 'try-way';
export const isErrand = ({ scope }: Pick<Authorization, 'scope'>): boolean => scope === ADDING || scope === TRYING;

export class AuthorizationStore {
  async add({ db }: Environment, request: string, asked: Asked, expiresAt: Date, userId: string | null = null): Promise<void> {
    const row = { hash: hashKey(request), ...asked, userId, signedInAt: null, codeHash: null, sessionId: null, expiresAt };
    await db.orm.insert(db.table(authorizationTable)).values(row);
  }

  /** One that nobody has signed in for yet. */
  async open({ db }: Environment, request: string, now: Date): Promise<Authorization | null> {
    const table = db.table(authorizationTable);
    const rows = await db.orm
      .select()
      .from(table)
      .where(and(eq(table.hash, hashKey(request)), isNull(table.codeHash), gt(table.expiresAt, now)));
    return rows[0] ?? null;
  }

  /** Gives out a code, once. */
  async grant({ db }: Environment, hash: string, code: string, userId: string, at: { now: Date; expires: Date }): Promise<boolean> {
    const table = db.table(authorizationTable);
    const [{ affectedRows }] = await db.orm
      .update(table)
      .set({ userId, signedInAt: at.now, codeHash: hashKey(code), expiresAt: at.expires })
      .where(and(eq(table.hash, hash), isNull(table.codeHash)));
    return affectedRows === 1;
  }

  async byCode({ db }: Environment, code: string): Promise<Authorization | null> {
    const table = db.table(authorizationTable);
    return (
      (
        await db.orm
          .select()
          .from(table)
          .where(eq(table.codeHash, hashKey(code)))
      )[0] ?? null
    );
  }

  /** Of two who bring the same code, one begins a session. */
  async use({ db }: Environment, hash: string, sessionId: string): Promise<boolean> {
    const table = db.table(authorizationTable);
    const [{ affectedRows }] = await db.orm
      .update(table)
      .set({ sessionId })
      .where(and(eq(table.hash, hash), isNull(table.sessionId)));
    return affectedRows === 1;
  }

  async forget({ db }: Environment, before: Date): Promise<void> {
    const table = db.table(authorizationTable);
    await db.orm.delete(table).where(lt(table.expiresAt, before));
  }
}
