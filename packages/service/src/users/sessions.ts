/** Signing up, signing in, renewing and signing out of app users. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { hashPassword, verifyPassword } from '../access/secrets.js';
import { SESSION_MS } from '../access/userTokens.js';
import type { Environment } from '../http/call.js';
import type { Parts } from '../parts.js';
import { presentUser, type UserRow, type UserStore } from './store.js';

export type NewUser = {
  email: string;
  password: string;
  name?: string | undefined;
  data?: JsonObject | undefined;
  roles?: string[] | undefined;
  /** E.164. */
  phone?: string | undefined;
};

export class Sessions {
  constructor(
    private readonly parts: Parts,
    private readonly store: UserStore,
  ) {}

  async makeUser(environment: Environment, wanted: NewUser): Promise<UserRow> {
    if (await this.store.findByEmail(environment, wanted.email))
      throw new Problem('already-exists', `There is an account for ${wanted.email} already. Sign in with it.`);
    const now = new Date(this.parts.now());
    const row: UserRow = {
      id: this.parts.newId(),
      email: wanted.email,
      name: wanted.name ?? null,
      passwordHash: await hashPassword(wanted.password),
      roles: wanted.roles ?? [],
      data: wanted.data ?? {},
      disabled: false,
      phone: wanted.phone ?? null,
      phoneVerifiedAt: null,
      createdAt: now,
      updatedAt: now,
      lastSeenAt: null,
    };
    await this.store.insert(environment, row);
    return row;
  }

  async signIn(environment: Environment, client: string, email: string, password: string) {
    const user = await this.store.findByEmail(environment, email);
    if (!(await verifyPassword(user?.passwordHash, password)) || !user) throw new Problem('sign-in-refused');
    if (user.disabled) throw new Problem('sign-in-refused', 'The account is disabled. Its owner can ask the team of the app.');
    return this.begin(environment, client, user);
  }

  /** Begins a session: the first generation of a family of refresh tokens. */
  async begin(environment: Environment, client: string, user: UserRow) {
    const now = this.parts.now();
    const id = this.parts.random(18).toString('base64url');
    const expiresAt = new Date(now + SESSION_MS);
    await this.store.insertSession(environment, {
      id,
      userId: user.id,
      client,
      generation: 1,
      createdAt: new Date(now),
      expiresAt,
      endedAt: null,
      endedReason: null,
    });
    await this.store.update(environment, user.id, { lastSeenAt: new Date(now) });
    return this.#tokens(environment, { ...user, lastSeenAt: new Date(now) }, id, 1, expiresAt);
  }

  /** Takes a refresh token for the next one. One that was used before ends the whole family: somebody else has a copy. */
  async renew(environment: Environment, refreshToken: string) {
    const named = this.parts.userTokens.readRefreshToken(environment, refreshToken);
    if (!named)
      throw new Problem('token-invalid', `The refresh token is not one of ${environment.app}/${environment.name}. Sign in again.`);
    const found = await this.store.findSession(environment, named.sessionId);
    if (!found || found.session.endedAt || found.user.disabled) throw new Problem('session-ended');
    if (found.session.expiresAt.getTime() <= this.parts.now())
      throw new Problem('token-expired', 'The refresh token has expired. Sign in again.');
    const expiresAt = new Date(this.parts.now() + SESSION_MS);
    if (!(await this.store.advanceSession(environment, named.sessionId, named.generation, expiresAt))) {
      await this.end(environment, { id: named.sessionId }, 'refresh token used twice');
      throw new Problem(
        'session-ended',
        'This refresh token was used before, so the session was ended for safety. Sign in again, and keep only the newest refresh token.',
      );
    }
    await this.store.update(environment, found.user.id, { lastSeenAt: new Date(this.parts.now()) });
    return this.#tokens(environment, found.user, named.sessionId, named.generation + 1, expiresAt);
  }

  async end(environment: Environment, which: { id: string } | { userId: string }, reason: string): Promise<void> {
    await this.store.endSessions(environment, which, new Date(this.parts.now()), reason);
    this.parts.userTokens.forget(which);
  }

  async #tokens(environment: Environment, user: UserRow, sessionId: string, generation: number, refreshExpiresAt: Date) {
    const access = await this.parts.userTokens.issueAccessToken(environment, user.id, sessionId);
    return {
      accessToken: access.token,
      accessTokenExpiresAt: new Date(access.expiresAt).toISOString(),
      refreshToken: this.parts.userTokens.writeRefreshToken(environment, sessionId, generation),
      refreshTokenExpiresAt: refreshExpiresAt.toISOString(),
      user: presentUser(user),
    };
  }
}
