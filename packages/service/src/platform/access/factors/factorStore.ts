/** Second factors, recovery codes and challenges of passkeys, as rows: of members, or of the users of an environment. */
import { and, asc, count, eq, gt, isNotNull, isNull, lt, or } from 'drizzle-orm';
import type { Database } from '../../database/connection.js';
import type { memberChallenges, memberFactors, memberRecoveryCodes } from '../systemTables.js';

export type FactorTables = {
  factors: typeof memberFactors;
  recoveryCodes: typeof memberRecoveryCodes;
  challenges: typeof memberChallenges;
};
export type FactorRow = FactorTables['factors']['$inferSelect'];

export class FactorStore {
  readonly #orm: Database['orm'];
  readonly #tables: FactorTables;

  constructor(orm: Database['orm'], tables: FactorTables) {
    this.#orm = orm;
    this.#tables = tables;
  }

  /** Those that count: a first code or response has shown that they work. */
  confirmed(ownerId: string): Promise<FactorRow[]> {
    return this.#orm
      .select()
      .from(this.#tables.factors)
      .where(and(eq(this.#tables.factors.ownerId, ownerId), isNotNull(this.#tables.factors.confirmedAt)))
      .orderBy(asc(this.#tables.factors.createdAt));
  }

  async find(ownerId: string, id: string): Promise<FactorRow | undefined> {
    const [row] = await this.#orm
      .select()
      .from(this.#tables.factors)
      .where(and(eq(this.#tables.factors.ownerId, ownerId), eq(this.#tables.factors.id, id)));
    return row;
  }

  async byCredential(credentialHash: string): Promise<FactorRow | undefined> {
    return (await this.#orm.select().from(this.#tables.factors).where(eq(this.#tables.factors.credentialHash, credentialHash)))[0];
  }

  /** Adds a factor; an unfinished one of the kind gives way. */
  async add(row: FactorTables['factors']['$inferInsert']): Promise<void> {
    await this.#orm
      .delete(this.#tables.factors)
      .where(
        and(
          eq(this.#tables.factors.ownerId, row.ownerId),
          eq(this.#tables.factors.kind, row.kind),
          isNull(this.#tables.factors.confirmedAt),
        ),
      );
    await this.#orm.insert(this.#tables.factors).values(row);
  }

  async confirm(id: string, at: Date): Promise<void> {
    await this.#orm.update(this.#tables.factors).set({ confirmedAt: at }).where(eq(this.#tables.factors.id, id));
  }

  /** Uses a time step up; false when a code of it, or of a later one, was accepted before. */
  async useStep(id: string, step: number, drift: number, at: Date): Promise<boolean> {
    const [{ affectedRows }] = await this.#orm
      .update(this.#tables.factors)
      .set({ lastStep: step, drift, lastUsedAt: at })
      .where(and(eq(this.#tables.factors.id, id), or(isNull(this.#tables.factors.lastStep), lt(this.#tables.factors.lastStep, step))));
    return affectedRows === 1;
  }

  async notePasskeyUse(id: string, counter: number, at: Date): Promise<void> {
    await this.#orm.update(this.#tables.factors).set({ counter, lastUsedAt: at }).where(eq(this.#tables.factors.id, id));
  }

  async remove(ownerId: string, id: string): Promise<void> {
    await this.#orm.delete(this.#tables.factors).where(and(eq(this.#tables.factors.ownerId, ownerId), eq(this.#tables.factors.id, id)));
  }

  async removeAll(ownerId: string): Promise<void> {
    await this.#orm.delete(this.#tables.factors).where(eq(this.#tables.factors.ownerId, ownerId));
    await this.setRecoveryCodes(ownerId, []);
  }

  async setRecoveryCodes(ownerId: string, hashes: readonly string[]): Promise<void> {
    await this.#orm.delete(this.#tables.recoveryCodes).where(eq(this.#tables.recoveryCodes.ownerId, ownerId));
    if (hashes.length > 0) await this.#orm.insert(this.#tables.recoveryCodes).values(hashes.map((hash) => ({ ownerId, hash })));
  }

  async recoveryCodesLeft(ownerId: string): Promise<number> {
    const [row] = await this.#orm
      .select({ n: count() })
      .from(this.#tables.recoveryCodes)
      .where(eq(this.#tables.recoveryCodes.ownerId, ownerId));
    return row?.n ?? 0;
  }

  /** Uses a recovery code up; false when it is not one, or was used. */
  async useRecoveryCode(ownerId: string, hash: string): Promise<boolean> {
    const [{ affectedRows }] = await this.#orm
      .delete(this.#tables.recoveryCodes)
      .where(and(eq(this.#tables.recoveryCodes.ownerId, ownerId), eq(this.#tables.recoveryCodes.hash, hash)));
    return affectedRows === 1;
  }

  async openChallenge(hash: string, ownerId: string | null, expiresAt: Date, now: Date): Promise<void> {
    await this.#orm.delete(this.#tables.challenges).where(lt(this.#tables.challenges.expiresAt, now));
    await this.#orm.insert(this.#tables.challenges).values({ hash, ownerId, expiresAt });
  }

  /** Uses a challenge up. @returns for whom it was opened, null for anyone; undefined when it is not open */
  async takeChallenge(hash: string, now: Date): Promise<string | null | undefined> {
    const [row] = await this.#orm
      .select()
      .from(this.#tables.challenges)
      .where(and(eq(this.#tables.challenges.hash, hash), gt(this.#tables.challenges.expiresAt, now)));
    const [{ affectedRows }] = await this.#orm.delete(this.#tables.challenges).where(eq(this.#tables.challenges.hash, hash));
    return row && affectedRows === 1 ? row.ownerId : undefined;
  }
}
