/** Automation tokens, as rows. */
import { Problem, type Role } from '@orchard/contract';
import { and, desc, eq, isNull } from 'drizzle-orm';
import { apps, automationTokenRoles, automationTokens, environments } from '../../platform/access/systemTables.js';
import type { Database } from '../../platform/database/connection.js';

export type TokenRow = typeof automationTokens.$inferSelect;
export type TokenRole = { tokenId: string; environmentId: string; app: string; environment: string; role: string };
export type Place = { id: string; app: string; environment: string };

export class TokenStore {
  constructor(private readonly database: Pick<Database, 'orm'>) {}

  get #orm() {
    return this.database.orm;
  }

  list(): Promise<TokenRow[]> {
    return this.#orm.select().from(automationTokens).orderBy(desc(automationTokens.createdAt));
  }

  roles(): Promise<TokenRole[]> {
    return this.#orm
      .select({
        tokenId: automationTokenRoles.tokenId,
        environmentId: automationTokenRoles.environmentId,
        app: environments.app,
        environment: environments.name,
        role: automationTokenRoles.role,
      })
      .from(automationTokenRoles)
      .innerJoin(environments, eq(environments.id, automationTokenRoles.environmentId))
      .orderBy(environments.app, environments.createdAt);
  }

  async find(id: string): Promise<TokenRow | undefined> {
    return (await this.#orm.select().from(automationTokens).where(eq(automationTokens.id, id)))[0];
  }

  async add(row: TokenRow, roles: ReadonlyMap<string, Role>): Promise<void> {
    await this.#orm.insert(automationTokens).values(row);
    await this.#orm
      .insert(automationTokenRoles)
      .values([...roles].map(([environmentId, role]) => ({ tokenId: row.id, environmentId, role })));
  }

  async revoke(id: string, at: Date): Promise<void> {
    await this.#orm
      .update(automationTokens)
      .set({ revokedAt: at })
      .where(and(eq(automationTokens.id, id), isNull(automationTokens.revokedAt)));
  }

  /** The tokens that somebody created and that still work. */
  async workingOf(createdBy: string): Promise<TokenRow[]> {
    return this.#orm
      .select()
      .from(automationTokens)
      .where(and(eq(automationTokens.createdBy, createdBy), isNull(automationTokens.revokedAt)));
  }

  /** Environments of an app, or the one with a name. @throws {Problem} not-found */
  async placesOf(app: string, name: string | undefined): Promise<Place[]> {
    const rows = await this.#orm
      .select({ id: environments.id, app: apps.name, environment: environments.name })
      .from(environments)
      .innerJoin(apps, eq(apps.name, environments.app))
      .where(and(eq(environments.app, app), name === undefined ? undefined : eq(environments.name, name)));
    if (rows.length === 0)
      throw new Problem('not-found', name === undefined ? `There is no app \`${app}\`.` : `There is no environment \`${app}/${name}\`.`);
    return rows;
  }
}
