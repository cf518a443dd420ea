/**
 * Tokens of app users. The access token is a JWT (RFC 9068, ES256) of ten minutes, which others can check by the published keys. The refresh token names its
 * session and generation and carries a MAC over both, so that an old one can be distinguished from a forged one without a list.
 */
import { createHmac, createSecretKey, type KeyObject, randomUUID, timingSafeEqual, verify } from 'node:crypto';
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { decodeProtectedHeader, errors, jwtVerify, type ProtectedHeaderParameters, SignJWT } from 'jose';
import { LRUCache } from 'lru-cache';
import { clearing } from '../database/unit.js';
import type { Environment, SignedInUser } from '../call.js';
import type { SignInHosts } from './signInHosts.js';
import type { SigningKeys } from './signingKeys.js';

export const ACCESS_TOKEN_MS = 10 * 60_000;
/** RFC 9068 section 2.1. */
const ACCESS_TOKEN_TYPE = 'at+jwt';
export const SESSION_MS = 60 * 86_400_000;
/** How long a checked token is trusted before its session is checked again. */
const RECHECK_MS = 4_000;

type Remembered = { user: SignedInUser; expiresAt: number };
export type SessionCheck = (
  environment: Environment,
  sessionId: string,
) => Promise<{ userId: string; roles: string[]; fields: JsonObject; ended: boolean; disabled: boolean; support?: string | null } | null>;

export class UserTokens {
  readonly #checked = new LRUCache<string, Remembered>({ max: 50_000, ttl: RECHECK_MS });
  readonly #keys = new Map<string, KeyObject>();

  constructor(
    private readonly now: () => number,
    private readonly checkSession: SessionCheck,
    readonly signingKeys: SigningKeys,
    private readonly address: () => string,
    private readonly hosts: SignInHosts,
  ) {}

  /** The environment as an issuer of tokens (OpenID Connect Core section 2). */
  issuerOf({ app, name }: Pick<Environment, 'app' | 'name'>): string {
    return `${this.address()}/identity/${app}/${name}`;
  }

  /** The address of its sign-in page, without `/authorize`. */
  pageOf(environment: Pick<Environment, 'app' | 'name'>): string {
    const origin = this.hosts.originOf(environment) ?? this.address();
    return `${origin}/identity/${environment.app}/${environment.name}`;
  }

  #key({ id, keys }: Environment): KeyObject {
    let key = this.#keys.get(id);
    if (!key) this.#keys.set(id, (key = createSecretKey(keys.tokens)));
    return key;
  }

  async issueAccessToken(
    environment: Environment,
    { userId, sessionId, client }: { userId: string; sessionId: string; client: string },
    lifeMs = ACCESS_TOKEN_MS,
  ): Promise<{ token: string; expiresAt: number }> {
    const expiresAt = this.now() + lifeMs;
    const { kid, privateKey } = await this.signingKeys.current(environment);
    const issuer = this.issuerOf(environment);
    // RFC 9068 section 2.2.
    const token = await new SignJWT({ sid: sessionId, client_id: client })
      .setProtectedHeader({ alg: 'ES256', typ: ACCESS_TOKEN_TYPE, kid })
      .setJti(randomUUID())
      .setAudience(issuer)
      .setSubject(userId)
      .setIssuer(issuer)
      .setIssuedAt(Math.floor(this.now() / 1000))
      .setExpirationTime(Math.floor(expiresAt / 1000))
      .sign(privateKey);
    return { token, expiresAt };
  }

  /** The user of an access token. @throws {Problem} token-expired, token-invalid, session-ended */
  async userOf(environment: Environment, token: string): Promise<SignedInUser> {
    const cacheKey = `${environment.id} ${token}`;
    const known = this.#checked.get(cacheKey);
    if (known && known.expiresAt > this.now()) return known.user;
    const { sid, exp } = await this.#verify(environment, token);
    const session = await this.checkSession(environment, sid);
    if (!session || session.ended) throw new Problem('session-ended');
    if (session.disabled) throw new Problem('session-ended', 'The account is disabled. Its owner can contact the team of the app.');
    const user = { id: session.userId, roles: session.roles, fields: session.fields, sessionId: sid, support: session.support ?? null };
    this.#checked.set(cacheKey, { user, expiresAt: exp * 1000 });
    return user;
  }

  async #verify(environment: Environment, token: string): Promise<{ sid: string; exp: number }> {
    try {
      const header = decodeProtectedHeader(token);
      if (header.alg === 'ES256') return await this.#readSigned(environment, token, header);
      // Tokens of before were signed with the environment's secret.
      const { payload } = await jwtVerify(token, this.#key(environment), {
        algorithms: ['HS256'],
        issuer: environment.id,
        currentDate: new Date(this.now()),
      });
      return { sid: String(payload.sid), exp: payload.exp as number };
    } catch (error) {
      if (error instanceof Problem) throw error;
      if (error instanceof errors.JWTExpired) throw new Problem('token-expired');
      throw new Problem(
        'token-invalid',
        `The access token is not one of ${environment.app}/${environment.name}. Sign in again there with POST /app/v1/sessions.`,
      );
    }
  }

  /**
   * A token as it is issued above, and no other (RFC 7515 section 5.2, RFC 7518 section 3.4). By `node:crypto`: WebCrypto, on
   * which the library stands, takes twice as long. The key alone says whose token it is: the address, and with it the issuer,
   * may change.
   * @throws {Problem} token-expired @throws {Error} for any other token
   */
  async #readSigned(
    environment: Environment,
    token: string,
    { kid, typ, crit }: ProtectedHeaderParameters,
  ): Promise<{ sid: string; exp: number }> {
    const key = (await this.signingKeys.find(environment, String(kid)))?.publicKey;
    const [head = '', body = '', signature = '', ...others] = token.split('.');
    const signed = Buffer.from(signature, 'base64url');
    const isOurs =
      key !== undefined &&
      typ === ACCESS_TOKEN_TYPE &&
      crit === undefined &&
      others.length === 0 &&
      verify('sha256', Buffer.from(`${head}.${body}`), { key, dsaEncoding: 'ieee-p1363' }, signed);
    if (!isOurs) throw new errors.JWSSignatureVerificationFailed();
    const { sid, exp } = JSON.parse(Buffer.from(body, 'base64url').toString()) as { sid: string; exp: number };
    if (!(exp * 1000 > this.now())) throw new Problem('token-expired');
    return { sid, exp };
  }

  /** Forgets the tokens of a session or a user, so that the next call checks the session again. */
  forget(which: { id: string } | { userId: string }): void {
    clearing(() => {
      for (const [name, { user }] of this.#checked.entries())
        if ('id' in which ? user.sessionId === which.id : user.id === which.userId) this.#checked.delete(name);
    });
  }

  /** Forgets the tokens of an environment: what rules may ask of its users has changed. */
  forgetAll({ id }: Pick<Environment, 'id'>): void {
    for (const name of this.#checked.keys()) if (name.startsWith(`${id} `)) this.#checked.delete(name);
  }

  writeRefreshToken(environment: Environment, sessionId: string, generation: number): string {
    return `${sessionId}.${generation}.${this.#mac(environment, sessionId, generation).toString('base64url')}`;
  }

  /** Null when it was not written here. */
  readRefreshToken(environment: Environment, token: string): { sessionId: string; generation: number } | null {
    const [sessionId = '', generation = '', mac = ''] = token.split('.');
    const given = Buffer.from(mac, 'base64url');
    const wanted = this.#mac(environment, sessionId, Number(generation));
    return given.length === wanted.length && timingSafeEqual(given, wanted) ? { sessionId, generation: Number(generation) } : null;
  }

  #mac(environment: Environment, sessionId: string, generation: number): Buffer {
    return createHmac('sha256', this.#key(environment)).update(`refresh:${sessionId}:${generation}`).digest();
  }
}
