/** Signing up, signing in, renewing and signing out of app users. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Known } from '../../platform/access/guesses.js';
import { demandGoodPassword } from '../../platform/access/passwords.js';
import { hashPassword, isOwnHash, verifyPassword } from '../../platform/access/secrets.js';
import { SESSION_MS } from '../../platform/access/userTokens.js';
import type { Environment } from '../../platform/call.js';
import { CredentialStore } from './credentials.js';
import { type Caller, demandVersion, entryRules, guessesAt } from './entry.js';
import type { Parts } from './parts.js';
import { demandData, presentToSelf } from './fields.js';
import { giveRuleRoles } from './roles.js';
import type { SessionRow, UserRow, UserStore } from './store.js';

const DISABLED = 'The account is disabled. Its owner can contact the team of the app.';
/** How long the previous refresh token still gets the same response. */
const GRACE_MS = 60_000;
/** How long a member may look at the app as a user. */
const SUPPORT_MS = 30 * 60_000;

export type NewUser = {
  /** Null for guests. */
  email: string | null;
  /** Without one, no one can sign in until a password is set. */
  password?: string | undefined;
  /** Instead of a password: its hash, from another system. */
  passwordHash?: string | undefined;
  emailConfirmedAt?: Date | undefined;
  createdAt?: Date | undefined;
  name?: string | undefined;
  data?: JsonObject | undefined;
  roles?: string[] | undefined;
  /** E.164. */
  phone?: string | undefined;
  terms?: string | undefined;
};

type Named = { email: string | null; name?: string | null | undefined };
/** `words`: of the refusal. */
type Given = { password: string; address: string; words?: string };
/** Null and undefined where there is no such account, or none with a password. */
type ToCheck = { email: string; user: UserRow | null; hash: string | undefined };

export class Sessions {
  readonly #credentials: CredentialStore;

  constructor(
    private readonly parts: Parts,
    private readonly store: UserStore,
  ) {
    this.#credentials = new CredentialStore(parts);
  }

  /** @param by whoever makes the account: required fields that only servers set are not asked of a user */
  async makeUser(environment: Environment, wanted: NewUser, by: 'user' | 'servers' = 'servers'): Promise<UserRow> {
    if (wanted.email !== null && (await this.store.findByEmail(environment, wanted.email)))
      throw new Problem('already-exists', `There is an account for ${wanted.email} already. Sign in with it.`);
    if (wanted.password !== undefined) await this.demandGood(environment, wanted, wanted.password);
    const now = new Date(this.parts.now());
    const row: UserRow = {
      id: this.parts.newId(),
      email: wanted.email,
      name: wanted.name ?? null,
      roles: wanted.roles ?? [],
      roleOrigins: null,
      data: wanted.email === null ? {} : await demandData(environment, wanted.data ?? {}, { by, whole: true }),
      disabled: false,
      phone: wanted.phone ?? null,
      phoneVerifiedAt: null,
      emailConfirmedAt: wanted.emailConfirmedAt ?? null,
      terms: wanted.terms ?? null,
      deleteAt: null,
      createdAt: wanted.createdAt ?? now,
      updatedAt: now,
      lastSeenAt: null,
    };
    const { password, passwordHash } = wanted;
    const hash = passwordHash ?? (password === undefined ? null : await hashPassword(password));
    const credential = hash === null ? null : this.#credentials.passwordRow(row.id, hash);
    await this.store.insert(environment, row, credential);
    return row;
  }

  /**
   * Where nobody signs in before the address is confirmed, a sign-up with the address of an account gets the response of any
   * other, after as long; the account's owner is told by mail.
   * @throws {Problem} confirmation-missing, invalid-input
   */
  async keepQuiet(
    environment: Environment,
    wanted: { email: string; password: string; name?: string | undefined },
    locale: string,
  ): Promise<void> {
    const taken = await this.store.findByEmail(environment, wanted.email);
    if (!taken) return;
    await this.demandGood(environment, wanted, wanted.password);
    await hashPassword(wanted.password);
    this.parts.ports.accounts.taken(environment, taken, locale);
    throw new Problem('confirmation-missing');
  }

  async signIn(environment: Environment, caller: Caller, email: string, password: string) {
    return this.begin(environment, caller, await this.userByPassword(environment, caller, email, password));
  }

  /** Whoever knows the password. @throws {Problem} sign-in-refused, rate-exceeded, confirmation-missing */
  async userByPassword(environment: Environment, caller: Caller, email: string, password: string): Promise<UserRow> {
    const { user, hash } = await this.store.findToSignIn(environment, email);
    const { isFamiliar } = await this.#demandHash(environment, { email, user, hash }, { password, address: caller.address });
    if (!user) throw new Problem('sign-in-refused');
    if (user.disabled) throw new Problem('sign-in-refused', DISABLED);
    const { confirm } = await entryRules.read(environment);
    if (confirm === 'first' && !user.emailConfirmedAt) {
      await this.parts.ports.accounts.confirm(environment, user, caller.locale);
      throw new Problem('confirmation-missing');
    }
    // The first sign-in of all is news to nobody.
    if (!isFamiliar && user.lastSeenAt) this.parts.ports.accounts.signedIn(environment, user, caller);
    return user;
  }

  /**
   * Checks an account's password.
   * @throws {Problem} sign-in-refused, with this text; rate-exceeded
   */
  async demandPassword(environment: Environment, email: string, user: UserRow, given: Given): Promise<void> {
    const hash = await this.#credentials.passwordHash(environment, user.id);
    await this.#demandHash(environment, { email, user, hash }, given);
  }

  /** The error is the same for an unknown account, and takes as long. */
  async #demandHash(environment: Environment, { email, user, hash }: ToCheck, { password, address, words }: Given): Promise<Known> {
    const guesses = await guessesAt(this.parts, environment);
    const known = await guesses.demand(email, address);
    if (await verifyPassword(hash, password)) {
      // One that was taken over becomes one of ours at the first sign-in.
      if (user && hash && !isOwnHash(hash)) await this.#credentials.setPassword(environment, user.id, await hashPassword(password));
      await guesses.noteSuccess(email, address, known);
      return known;
    }
    await guesses.noteFailure(email, address);
    throw new Problem('sign-in-refused', words);
  }

  /** Sets a password; sessions other than `kept` end. @throws {Problem} invalid-input */
  async setPassword(environment: Environment, user: UserRow, password: string, path: string, kept: string | null): Promise<void> {
    await this.demandGood(environment, user, password, path);
    const now = new Date(this.parts.now());
    await this.#credentials.setPassword(environment, user.id, await hashPassword(password));
    await this.store.update(environment, user.id, { updatedAt: now });
    await this.endOthers(environment, user.id, kept, 'password changed');
  }

  /** @throws {Problem} invalid-input for a password that is easily guessed, of this user above all */
  async demandGood(environment: Environment, { email, name }: Named, password: string, path = 'body.password'): Promise<void> {
    demandGoodPassword(password, path, [email, name, environment.app], await entryRules.read(environment));
  }

  /**
   * Starts a session: the first generation of a family of refresh tokens.
   * @param factor `proved`: the second factor was shown already
   * @throws {Problem} second-factor-needed, sign-in-refused, app-outdated
   */
  async begin(environment: Environment, caller: Caller, user: UserRow, factor: 'asked' | 'proved' = 'asked') {
    if (user.disabled) throw new Problem('sign-in-refused', DISABLED);
    await demandVersion(environment, caller);
    if (factor === 'asked') await this.parts.ports.userFactors.demand(environment, user.id, caller.client);
    const now = this.parts.now();
    const id = this.parts.random(18).toString('base64url');
    const expiresAt = new Date(now + SESSION_MS);
    await this.store.insertSession(environment, {
      id,
      userId: user.id,
      client: caller.client,
      generation: 1,
      createdAt: new Date(now),
      expiresAt,
      renewedAt: null,
      endedAt: null,
      endedReason: null,
      supportBy: null,
    });
    await this.#endBeyondMost(environment, user.id, new Date(now));
    // Who signs in again keeps the account.
    const changes = { lastSeenAt: new Date(now), deleteAt: null };
    await this.store.update(environment, user.id, changes);
    const present = await giveRuleRoles(this.store, environment, { ...user, ...changes }, now);
    return this.#tokens(environment, present, { id, client: caller.client }, 1, expiresAt);
  }

  /**
   * A session in which a member looks at the app as a user: without a refresh token, so that it ends by itself.
   * @throws {Problem} sign-in-refused
   */
  async beginSupport(environment: Environment, user: UserRow, client: string, memberId: string) {
    if (user.disabled) throw new Problem('sign-in-refused', DISABLED);
    const now = this.parts.now();
    const id = this.parts.random(18).toString('base64url');
    const dates = { createdAt: new Date(now), expiresAt: new Date(now + SUPPORT_MS), renewedAt: null, endedAt: null };
    await this.store.insertSession(environment, {
      id,
      userId: user.id,
      client,
      generation: 1,
      ...dates,
      endedReason: null,
      supportBy: memberId,
    });
    const access = await this.parts.userTokens.issueAccessToken(environment, { userId: user.id, sessionId: id, client }, SUPPORT_MS);
    return { session: id, accessToken: access.token, expiresAt: new Date(access.expiresAt).toISOString() };
  }

  async #endBeyondMost(environment: Environment, userId: string, now: Date): Promise<void> {
    const { mostSessions } = await entryRules.read(environment);
    if (mostSessions === null) return;
    const open = (await this.store.openSessions(environment, userId, now)).filter(({ supportBy }) => supportBy === null);
    for (const { id } of open.slice(mostSessions)) await this.end(environment, { id }, 'too many sessions');
  }

  /**
   * Exchanges a refresh token for the next one. For a minute the previous token gets the same next one again, on the same
   * client: the response may have been lost, or two tabs renewed at once. Reuse of any other token ends the whole family:
   * someone else has a copy.
   */
  async renew(environment: Environment, caller: Caller, refreshToken: string) {
    const { client } = caller;
    await demandVersion(environment, caller);
    const named = this.parts.userTokens.readRefreshToken(environment, refreshToken);
    if (!named)
      throw new Problem('token-invalid', `The refresh token is not one of ${environment.app}/${environment.name}. Sign in again.`);
    const now = this.parts.now();
    const found = await this.store.findSession(environment, named.sessionId);
    if (!found || found.session.endedAt || found.user.disabled) throw new Problem('session-ended');
    if (found.session.expiresAt.getTime() <= now) throw new Problem('token-expired', 'The refresh token has expired. Sign in again.');
    const expiresAt = new Date(now + SESSION_MS);
    if (!(await this.store.advanceSession(environment, named.sessionId, named.generation, expiresAt, new Date(now))))
      return this.#again(environment, client, named);
    await this.store.update(environment, found.user.id, { lastSeenAt: new Date(now) });
    return this.#tokens(environment, found.user, found.session, named.generation + 1, expiresAt);
  }

  async #again(environment: Environment, client: string, named: { sessionId: string; generation: number }) {
    const found = await this.store.findSession(environment, named.sessionId);
    if (!found || found.session.endedAt) throw new Problem('session-ended');
    const { session, user } = found;
    const age = this.parts.now() - (session.renewedAt?.getTime() ?? 0);
    if (session.generation === named.generation + 1 && session.client === client && age < GRACE_MS)
      return this.#tokens(environment, user, session, session.generation, session.expiresAt);
    await this.end(environment, { id: named.sessionId }, 'refresh token used twice');
    throw new Problem(
      'session-ended',
      'This refresh token was used before, so the session was ended for safety. Sign in again, and keep only the newest refresh token.',
    );
  }

  async hasPassword(environment: Environment, userId: string): Promise<boolean> {
    return (await this.#credentials.passwordHash(environment, userId)) !== undefined;
  }

  /** Ends the sessions of a user but one. */
  async endOthers(environment: Environment, userId: string, kept: string | null, reason: string): Promise<void> {
    await this.store.endSessions(environment, { userId, except: kept }, new Date(this.parts.now()), reason);
    this.parts.userTokens.forget({ userId });
  }

  async end(environment: Environment, which: { id: string } | { userId: string }, reason: string): Promise<void> {
    await this.store.endSessions(environment, which, new Date(this.parts.now()), reason);
    this.parts.userTokens.forget(which);
  }

  async #tokens(
    environment: Environment,
    user: UserRow,
    { id: sessionId, client }: Pick<SessionRow, 'id' | 'client'>,
    generation: number,
    refreshExpiresAt: Date,
  ) {
    const access = await this.parts.userTokens.issueAccessToken(environment, { userId: user.id, sessionId, client });
    return {
      accessToken: access.token,
      accessTokenExpiresAt: new Date(access.expiresAt).toISOString(),
      refreshToken: this.parts.userTokens.writeRefreshToken(environment, sessionId, generation),
      refreshTokenExpiresAt: refreshExpiresAt.toISOString(),
      user: await presentToSelf(environment, user),
    };
  }
}
