/** Second factors of members, recovery codes and challenges of passkeys, as rows. */
import { and, asc, count, eq, gt, isNotNull, isNull, lt, ne, or } from 'drizzle-orm';
import {
  apps,
  environments,
  memberChallenges,
  memberFactors,
  memberRecoveryCodes,
  memberSessions,
} from '../../platform/access/systemTables.js';
import type { Database } from '../../platform/database/connection.js';

export type FactorRow = typeof memberFactors.$inferSelect;

export class FactorStore {
  constructor(private readonly database: Pick<Database, 'orm'>) {}

  get #orm() {
    return this.database.orm;
  }

  /** Those that count: a first code or response has shown that they work. */
  confirmed(memberId: string): Promise<FactorRow[]> {
    return this.#orm
      .select()
      .from(memberFactors)
      .where(and(eq(memberFactors.memberId, memberId), isNotNull(memberFactors.confirmedAt)))
      .orderBy(asc(memberFactors.createdAt));
  }

  /** The members who have a second factor. */
  async owners(): Promise<Set<string>> {
    const rows = await this.#orm
      .selectDistinct({ memberId: memberFactors.memberId })
      .from(memberFactors)
      .where(isNotNull(memberFactors.confirmedAt));
    return new Set(rows.map(({ memberId }) => memberId));
  }

  /** Apps that demand a second factor, with the ids of their environments. */
  async demandingApps(): Promise<{ name: string; environments: string[] }[]> {
    const rows = await this.#orm
      .select({ name: apps.name, id: environments.id })
      .from(apps)
      .leftJoin(environments, eq(environments.app, apps.name))
      .where(eq(apps.secondFactor, true));
    const names = [...new Set(rows.map(({ name }) => name))];
    return names.map((name) => ({ name, environments: rows.flatMap((row) => (row.name === name && row.id ? [row.id] : [])) }));
  }

  async find(memberId: string, id: string): Promise<FactorRow | undefined> {
    const [row] = await this.#orm
      .select()
      .from(memberFactors)
      .where(and(eq(memberFactors.memberId, memberId), eq(memberFactors.id, id)));
    return row;
  }

  async byCredential(credentialHash: string): Promise<FactorRow | undefined> {
    return (await this.#orm.select().from(memberFactors).where(eq(memberFactors.credentialHash, credentialHash)))[0];
  }

  /** Adds a factor; an unfinished one of the kind gives way. */
  async add(row: typeof memberFactors.$inferInsert): Promise<void> {
    await this.#orm
      .delete(memberFactors)
      .where(and(eq(memberFactors.memberId, row.memberId), eq(memberFactors.kind, row.kind), isNull(memberFactors.confirmedAt)));
    await this.#orm.insert(memberFactors).values(row);
  }

  async confirm(id: string, at: Date): Promise<void> {
    await this.#orm.update(memberFactors).set({ confirmedAt: at }).where(eq(memberFactors.id, id));
  }

  /** Uses a time step up; false when a code of it, or of a later one, was accepted before. */
  async useStep(id: string, step: number, drift: number, at: Date): Promise<boolean> {
    const [{ affectedRows }] = await this.#orm
      .update(memberFactors)
      .set({ lastStep: step, drift, lastUsedAt: at })
      .where(and(eq(memberFactors.id, id), or(isNull(memberFactors.lastStep), lt(memberFactors.lastStep, step))));
    return affectedRows === 1;
  }

  async notePasskeyUse(id: string, counter: number, at: Date): Promise<void> {
    await this.#orm.update(memberFactors).set({ counter, lastUsedAt: at }).where(eq(memberFactors.id, id));
  }

  async remove(memberId: string, id: string): Promise<void> {
    await this.#orm.delete(memberFactors).where(and(eq(memberFactors.memberId, memberId), eq(memberFactors.id, id)));
  }

  async removeAll(memberId: string): Promise<void> {
    await this.#orm.delete(memberFactors).where(eq(memberFactors.memberId, memberId));
    await this.setRecoveryCodes(memberId, []);
  }

  async setRecoveryCodes(memberId: string, hashes: readonly string[]): Promise<void> {
    await this.#orm.delete(memberRecoveryCodes).where(eq(memberRecoveryCodes.memberId, memberId));
    if (hashes.length > 0) await this.#orm.insert(memberRecoveryCodes).values(hashes.map((hash) => ({ memberId, hash })));
  }

  async recoveryCodesLeft(memberId: string): Promise<number> {
    const [row] = await this.#orm.select({ n: count() }).from(memberRecoveryCodes).where(eq(memberRecoveryCodes.memberId, memberId));
    return row?.n ?? 0;
  }

  /** Uses a recovery code up; false when it is not one, or was used. */
  async useRecoveryCode(memberId: string, hash: string): Promise<boolean> {
    const [{ affectedRows }] = await this.#orm
      .delete(memberRecoveryCodes)
      .where(and(eq(memberRecoveryCodes.memberId, memberId), eq(memberRecoveryCodes.hash, hash)));
    return affectedRows === 1;
  }

  async openChallenge(hash: string, memberId: string | null, expiresAt: Date, now: Date): Promise<void> {
    await this.#orm.delete(memberChallenges).where(lt(memberChallenges.expiresAt, now));
    await this.#orm.insert(memberChallenges).values({ hash, memberId, expiresAt });
  }

  /** Uses a challenge up. @returns for whom it was opened, null for anyone; undefined when it is not open */
  async takeChallenge(hash: string, now: Date): Promise<string | null | undefined> {
    const [row] = await this.#orm
      .select()
      .from(memberChallenges)
      .where(and(eq(memberChallenges.hash, hash), gt(memberChallenges.expiresAt, now)));
    const [{ affectedRows }] = await this.#orm.delete(memberChallenges).where(eq(memberChallenges.hash, hash));
    return row && affectedRows === 1 ? row.memberId : undefined;
  }

  /** Marks a session as confirmed, and ends the others: they began without the second factor. */
  async confirmSession(memberId: string, tokenHash: string, at: Date, endOthers: boolean): Promise<void> {
    await this.#orm.update(memberSessions).set({ confirmedAt: at }).where(eq(memberSessions.tokenHash, tokenHash));
    if (endOthers)
      await this.#orm.delete(memberSessions).where(and(eq(memberSessions.memberId, memberId), ne(memberSessions.tokenHash, tokenHash)));
  }

  async endSessions(memberId: string): Promise<void> {
    await this.#orm.delete(memberSessions).where(eq(memberSessions.memberId, memberId));
  }
}
