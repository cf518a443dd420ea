/** Second factors of the users of an environment. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { methodWords } from '../../platform/access/confirmation.js';
import { Factors } from '../../platform/access/factors/factors.js';
import { FactorStore, type FactorTables } from '../../platform/access/factors/factorStore.js';
import { Passkeys, type Site, siteAt } from '../../platform/access/factors/passkeys.js';
import { readTicket, writeTicket } from '../../platform/access/tickets.js';
import type { Call, Environment } from '../../platform/call.js';
import { confirmedUser } from '../users/account.js';
import { entryRules, guessesAt } from '../users/entry.js';
import type { UserRow } from '../users/store.js';
import type { Parts } from './parts.js';
import { userChallengeTable, userFactorTable, userRecoveryCodeTable } from './tables.js';

/** How long after its start a session stands for its owner, who has nothing else to prove it with. */
const FRESH_MS = 10 * 60_000;
const TICKET = 'ticket of a sign-in';

export type Proof = { password?: string | undefined; code?: string | undefined };

export class UserFactors {
  constructor(private readonly parts: Parts) {}

  async of(environment: Environment): Promise<Factors> {
    const { db, keys } = environment;
    const { newId, random, now } = this.parts;
    // The tables differ from those of members in their names alone.
    const tables = {
      factors: db.table(userFactorTable),
      recoveryCodes: db.table(userRecoveryCodeTable),
      challenges: db.table(userChallengeTable),
    } as unknown as FactorTables;
    const store = new FactorStore(db.orm, tables);
    const passkeys = new Passkeys({ store, site: await this.#site(environment), now });
    return new Factors({ store, passkeys, key: keys.data, guesses: await guessesAt(this.parts, environment), newId, random, now });
  }

  /** The app's own domain where it has one, else the host of the sign-in page. */
  async #site(environment: Environment): Promise<Site | string> {
    const { passkeyDomain, passkeyOrigins } = await entryRules.read(environment);
    const page = siteAt(this.parts.userTokens.pageOf(environment), environment.app);
    if (passkeyDomain === null) return typeof page === 'string' ? page : { ...page, origins: [...page.origins, ...passkeyOrigins] };
    const pages = typeof page === 'string' ? [] : page.origins;
    return { id: passkeyDomain, name: environment.app, origins: [`https://${passkeyDomain}`, ...pages, ...passkeyOrigins] };
  }

  async has(environment: Environment, userId: string): Promise<boolean> {
    return (await (await this.of(environment)).store.confirmed(userId)).length > 0;
  }

  /** @throws {Problem} second-factor-needed */
  async demand(environment: Environment, userId: string, client: string): Promise<void> {
    const rows = await (await this.of(environment)).store.confirmed(userId);
    // A passkey alone is a way in of its own: whoever adds one has not asked for more at the others.
    if (!rows.some(({ kind }) => kind === 'authenticator')) return;
    throw new Problem('second-factor-needed', `A second factor is needed: ${methodWords(['code'])}.`, {
      methods: ['code'],
      ticket: this.writeTicket(environment, userId, client),
    });
  }

  /** Shows for some minutes that a user has passed the first factor at a client. */
  writeTicket({ keys }: Environment, userId: string, client: string): string {
    return writeTicket(keys.data, TICKET, { userId, client }, this.parts.now());
  }

  /**
   * Whose ticket it is, once the code is right.
   * @throws {Problem} link-refused, second-factor-refused, rate-exceeded
   */
  async finish(environment: Environment, client: string, ticket: string, code: string, address: string): Promise<UserRow> {
    const read = readTicket<{ userId: string; client: string }>(environment.keys.data, TICKET, ticket, this.parts.now());
    if (read?.client !== client)
      throw new Problem('link-refused', 'The sign-in was begun more than five minutes ago, or elsewhere. Begin again.');
    await (await this.of(environment)).useCode(read.userId, code, address);
    return this.parts.userStore.named(environment, read.userId);
  }

  /** Whose passkey it is. @throws {Problem} second-factor-refused */
  async byPasskey(environment: Environment, passkey: JsonObject): Promise<UserRow> {
    const { ownerId } = await (await this.of(environment)).passkeys.use(passkey);
    return this.parts.userStore.named(environment, ownerId);
  }

  /**
   * Demands what the user can show: a code with an authenticator app, else the password, else a fresh sign-in.
   * @throws {Problem} second-factor-needed, second-factor-refused, sign-in-refused, rate-exceeded
   */
  async demandProof(call: Pick<Call, 'environment' | 'user' | 'request'>, { password, code }: Proof): Promise<UserRow> {
    const environment = call.environment as Environment;
    const { userStore, userSessions } = this.parts;
    const user = await userStore.named(environment, call.user?.id ?? '');
    const factors = await this.of(environment);
    const hasApp = (await factors.store.confirmed(user.id)).some(({ kind }) => kind === 'authenticator');
    if (hasApp) {
      if (code === undefined)
        throw new Problem('second-factor-needed', `Confirm that it is you, with ${methodWords(['code'])}.`, { methods: ['code'] });
      await factors.useCode(user.id, code, call.request.ip ?? '');
      return user;
    }
    if (await userSessions.hasPassword(environment, user.id)) {
      if (password === undefined)
        throw new Problem('second-factor-needed', `Confirm that it is you, with ${methodWords(['password'])}.`, { methods: ['password'] });
      return confirmedUser(userStore, userSessions, call, password);
    }
    const session = (await userStore.findSession(environment, call.user?.sessionId ?? ''))?.session;
    if (!session || this.parts.now() - session.createdAt.getTime() > FRESH_MS)
      throw new Problem('second-factor-needed', 'Confirm that it is you: sign in again, and do it within ten minutes.', { methods: [] });
    return user;
  }
}
