/** Credentials of users, as rows: an account may have none, one, or several. */
import { and, eq } from 'drizzle-orm';
import type { Environment } from '../../platform/call.js';
import { credentialTable } from './tables.js';

export type CredentialRow = typeof credentialTable.$inferSelect;

const ofUser = (userId: string) => and(eq(credentialTable.userId, userId), eq(credentialTable.kind, 'password'));

export class CredentialStore {
  constructor(private readonly ground: { now: () => number; newId: () => string }) {}

  /** The hash of a user's password; undefined for an account without one. */
  async passwordHash({ db }: Environment, userId: string): Promise<string | undefined> {
    const [row] = await db.orm.select({ verifier: credentialTable.verifier }).from(db.table(credentialTable)).where(ofUser(userId));
    return row?.verifier;
  }

  passwordRow(userId: string, hash: string): CredentialRow {
    const { newId, now } = this.ground;
    return { id: newId(), userId, kind: 'password', identifier: '', verifier: hash, createdAt: new Date(now()) };
  }

  /** Sets the user's password. */
  async setPassword({ db }: Environment, userId: string, hash: string): Promise<void> {
    const row = this.passwordRow(userId, hash);
    await db.orm
      .insert(db.table(credentialTable))
      .values(row)
      .onDuplicateKeyUpdate({ set: { verifier: row.verifier, createdAt: row.createdAt } });
  }
}
