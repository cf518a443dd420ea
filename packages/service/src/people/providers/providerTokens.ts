/** What providers have handed out: encrypted, refreshed before its end, taken back when its owner signs out. Never for the app. */
import { and, eq, isNotNull, lte } from 'drizzle-orm';
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import type { OpenIdProviders } from './openid.js';
import type { Parts } from './parts.js';
import type { ProviderTokens } from './person.js';
import { providerTokenTable } from './tables.js';
import { allWays, type WayOf } from './ways.js';

/** Refreshed so long before it ends. */
const AHEAD_MS = 5 * 60_000;
/** One that could not be refreshed is tried again after this time. */
const AGAIN_MS = 10 * 60_000;
const AT_ONCE = 200;

type Row = typeof providerTokenTable.$inferSelect;
type Owner = Pick<Row, 'credentialId' | 'userId' | 'way'>;
const contextOf = (credentialId: string) => `tokens of ${credentialId}`;

export class ProviderTokenKeeper {
  constructor(
    private readonly parts: Parts,
    private readonly providers: OpenIdProviders,
  ) {}

  async keep({ db, keys }: Environment, owner: Owner, tokens: ProviderTokens): Promise<void> {
    const { refreshToken, expiresAt } = tokens;
    const row: Row = {
      ...owner,
      sealed: seal(keys.data, contextOf(owner.credentialId), JSON.stringify(tokens)),
      expiresAt: expiresAt === null ? null : new Date(expiresAt),
      refreshAt: refreshToken === null || expiresAt === null ? null : new Date(expiresAt - AHEAD_MS),
    };
    await db.orm.insert(db.table(providerTokenTable)).values(row).onDuplicateKeyUpdate({ set: row });
  }

  /** A valid access token of a user at a provider, for functions; null when there is none. */
  async accessToken(environment: Environment, userId: string, way: string): Promise<string | null> {
    const table = environment.db.table(providerTokenTable);
    const [row] = await environment.db.orm
      .select()
      .from(table)
      .where(and(eq(table.userId, userId), eq(table.way, way)));
    if (!row) return null;
    const tokens = this.#open(environment, row);
    if (tokens.expiresAt === null || tokens.expiresAt > this.parts.now()) return tokens.accessToken;
    return (await this.#refresh(environment, row))?.accessToken ?? null;
  }

  #open({ keys }: Environment, { sealed, credentialId }: Row): ProviderTokens {
    return JSON.parse(unseal(keys.data, contextOf(credentialId), sealed).toString()) as ProviderTokens;
  }

  /** Refreshes what ends soon. */
  async refreshDue(environment: Environment): Promise<void> {
    const table = environment.db.table(providerTokenTable);
    const due = await environment.db.orm
      .select()
      .from(table)
      .where(and(isNotNull(table.refreshAt), lte(table.refreshAt, new Date(this.parts.now()))))
      .limit(AT_ONCE);
    for (const row of due) await this.#refresh(environment, row);
  }

  async #refresh(environment: Environment, row: Row): Promise<ProviderTokens | null> {
    const { refreshToken } = this.#open(environment, row);
    const way = await this.#wayOf(environment, row);
    if (!way || refreshToken === null) return null;
    try {
      const next = await this.providers.refresh(environment, row.way, way, refreshToken);
      await this.keep(environment, row, next);
      return next;
    } catch (error) {
      const text = `The tokens of user ${row.userId} cannot be refreshed: ${(error as Error).message}`;
      this.parts.ports.logEntry(environment, { level: 'warning', source: `sign-in way ${row.way}`, text });
      const table = environment.db.table(providerTokenTable);
      const refreshAt = new Date(this.parts.now() + AGAIN_MS);
      await environment.db.orm.update(table).set({ refreshAt }).where(eq(table.credentialId, row.credentialId));
      return null;
    }
  }

  async #wayOf(environment: Environment, { way }: Row): Promise<WayOf<'openid'> | WayOf<'oauth'> | null> {
    const found = (await allWays(environment)).find(([name]) => name === way)?.[1];
    return found && (found.kind === 'openid' || found.kind === 'oauth') ? found : null;
  }

  /** Takes tokens back at the provider, where it can, and forgets them. */
  async forget(environment: Environment, which: { userId: string } | { credentialId: string }): Promise<void> {
    const table = environment.db.table(providerTokenTable);
    const condition = 'userId' in which ? eq(table.userId, which.userId) : eq(table.credentialId, which.credentialId);
    for (const row of await environment.db.orm.select().from(table).where(condition)) {
      const way = await this.#wayOf(environment, row);
      if (way) await this.providers.revoke(environment, row.way, way, this.#open(environment, row)).catch(() => undefined);
    }
    await environment.db.orm.delete(table).where(condition);
  }
}
