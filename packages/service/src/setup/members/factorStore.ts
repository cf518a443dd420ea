/** Second factors of members, as rows: with the sessions and apps that they concern. */
import { and, eq, isNotNull, ne } from 'drizzle-orm';
import { FactorStore } from '../../platform/access/factors/factorStore.js';
import {
  apps,
  environments,
  memberChallenges,
  memberFactors,
  memberRecoveryCodes,
  memberSessions,
} from '../../platform/access/systemTables.js';
import type { Database } from '../../platform/database/connection.js';

export class MemberFactorStore extends FactorStore {
  readonly #orm: Database['orm'];

  constructor({ orm }: Pick<Database, 'orm'>) {
    super(orm, { factors: memberFactors, recoveryCodes: memberRecoveryCodes, challenges: memberChallenges });
    this.#orm = orm;
  }

  /** The members who have a second factor. */
  async owners(): Promise<Set<string>> {
    const rows = await this.#orm
      .selectDistinct({ ownerId: memberFactors.ownerId })
      .from(memberFactors)
      .where(isNotNull(memberFactors.confirmedAt));
    return new Set(rows.map(({ ownerId }) => ownerId));
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
