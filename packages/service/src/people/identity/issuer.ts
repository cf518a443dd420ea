/** An environment as an OpenID provider: codes for tokens, and what others may ask about tokens. */
import { createHash, randomUUID, timingSafeEqual } from 'node:crypto';
import { Problem } from '@orchard/contract';
import { SignJWT } from 'jose';
import type { Environment } from '../../platform/call.js';
import type { Caller } from '../users/entry.js';
import type { UserRow } from '../users/store.js';
import { type Authorization, AuthorizationStore } from './authorizationStore.js';
import type { Parts } from './parts.js';

const ID_TOKEN_S = 600;

/** An error of the token endpoint (RFC 6749 section 5.2). */
export class TokenError extends Error {
  constructor(
    readonly code: 'invalid_request' | 'invalid_client' | 'invalid_grant' | 'unsupported_grant_type',
    message: string,
  ) {
    super(message);
  }
}

export type TokenForm = Record<string, string | undefined>;

export class Issuer {
  readonly #store = new AuthorizationStore();

  constructor(private readonly parts: Parts) {}

  /** OpenID Connect Discovery 1.0 section 3, RFC 8414 section 2. */
  metadata(environment: Environment) {
    const issuer = this.parts.userTokens.issuerOf(environment);
    return {
      issuer,
      authorization_endpoint: `${this.parts.userTokens.pageOf(environment)}/authorize`,
      token_endpoint: `${issuer}/token`,
      userinfo_endpoint: `${issuer}/userinfo`,
      jwks_uri: `${issuer}/jwks.json`,
      revocation_endpoint: `${issuer}/revoke`,
      introspection_endpoint: `${issuer}/introspect`,
      scopes_supported: ['openid', 'email', 'profile', 'offline_access'],
      response_types_supported: ['code'],
      response_modes_supported: ['query'],
      grant_types_supported: ['authorization_code', 'refresh_token'],
      subject_types_supported: ['public'],
      id_token_signing_alg_values_supported: ['ES256'],
      token_endpoint_auth_methods_supported: ['none'],
      revocation_endpoint_auth_methods_supported: ['none'],
      introspection_endpoint_auth_methods_supported: ['client_secret_basic'],
      code_challenge_methods_supported: ['S256'],
      claims_supported: ['sub', 'iss', 'aud', 'exp', 'iat', 'auth_time', 'nonce', 'email', 'email_verified', 'name'],
      ui_locales_supported: ['en', 'nb', 'de', 'ja', 'ar'],
      authorization_response_iss_parameter_supported: true,
    };
  }

  /** @throws {TokenError} */
  async token(environment: Environment, form: TokenForm, caller: Caller) {
    switch (form.grant_type) {
      case 'authorization_code':
        return this.#byCode(environment, form, caller);
      case 'refresh_token':
        return this.#byRefreshToken(environment, form, caller);
      default:
        throw new TokenError('unsupported_grant_type', 'grant_type is authorization_code or refresh_token.');
    }
  }

  async #byCode(environment: Environment, form: TokenForm, caller: Caller) {
    const found = form.code ? await this.#store.byCode(environment, form.code) : null;
    if (!found?.userId || found.expiresAt.getTime() <= this.parts.now())
      throw new TokenError('invalid_grant', 'The code is not valid, or no longer.');
    // RFC 6749 section 4.1.2: a code that comes twice was stolen; what it gave is taken back.
    if (found.sessionId) {
      await this.parts.userSessions.end(environment, { id: found.sessionId }, 'code used twice');
      throw new TokenError('invalid_grant', 'The code was used before. The session that it began has ended.');
    }
    if (form.client_id !== found.client) throw new TokenError('invalid_grant', 'The code was given to another client.');
    if (form.redirect_uri !== found.redirectUri) throw new TokenError('invalid_grant', 'redirect_uri is not that of the request.');
    if (!fitsChallenge(form.code_verifier, found.challenge))
      throw new TokenError('invalid_grant', 'code_verifier does not fit the challenge of the request.');
    const user = await this.parts.userStore.find(environment, found.userId);
    if (!user || user.disabled) throw new TokenError('invalid_grant', 'The account cannot sign in any more.');
    const { sessionId, ...tokens } = await this.#begin(environment, user, { ...caller, client: found.client });
    if (!(await this.#store.use(environment, found.hash, sessionId))) {
      await this.parts.userSessions.end(environment, { id: sessionId }, 'code used twice');
      throw new TokenError('invalid_grant', 'The code was used before.');
    }
    return { ...tokens, id_token: await this.#idToken(environment, user, found), scope: found.scope };
  }

  async #begin(environment: Environment, user: UserRow, caller: Caller) {
    const begun = await asTokenError(this.parts.userSessions.begin(environment, caller, user, 'proved'));
    const [sessionId = ''] = begun.refreshToken.split('.');
    return { sessionId, ...this.#bearer(begun) };
  }

  async #byRefreshToken(environment: Environment, form: TokenForm, caller: Caller) {
    if (!form.refresh_token) throw new TokenError('invalid_request', 'refresh_token is missing.');
    const renewed = await asTokenError(
      this.parts.userSessions.renew(environment, { ...caller, client: form.client_id ?? caller.client }, form.refresh_token),
    );
    return this.#bearer(renewed);
  }

  #bearer({
    accessToken,
    accessTokenExpiresAt,
    refreshToken,
  }: {
    accessToken: string;
    accessTokenExpiresAt: string;
    refreshToken: string;
  }) {
    return {
      access_token: accessToken,
      token_type: 'Bearer',
      expires_in: Math.round((Date.parse(accessTokenExpiresAt) - this.parts.now()) / 1000),
      refresh_token: refreshToken,
    };
  }

  /** OpenID Connect Core section 2. */
  async #idToken(environment: Environment, user: UserRow, { client, nonce, signedInAt, scope }: Authorization): Promise<string> {
    const { kid, privateKey } = await this.parts.userTokens.signingKeys.current(environment);
    const now = Math.floor(this.parts.now() / 1000);
    return new SignJWT({
      ...claimsOf(user, scope.split(' ')),
      ...(nonce ? { nonce } : {}),
      auth_time: Math.floor((signedInAt?.getTime() ?? this.parts.now()) / 1000),
    })
      .setProtectedHeader({ alg: 'ES256', typ: 'JWT', kid })
      .setIssuer(this.parts.userTokens.issuerOf(environment))
      .setSubject(user.id)
      .setAudience(client)
      .setIssuedAt(now)
      .setExpirationTime(now + ID_TOKEN_S)
      .setJti(randomUUID())
      .sign(privateKey);
  }

  /** OpenID Connect Core section 5.3. @throws {Problem} token-invalid, token-expired, session-ended */
  async userInfo(environment: Environment, accessToken: string) {
    const { id } = await this.parts.userTokens.userOf(environment, accessToken);
    const user = await this.parts.userStore.named(environment, id);
    return { sub: user.id, ...claimsOf(user, ['email', 'profile']) };
  }

  /** RFC 7009 section 2: an unknown token is revoked, too. */
  async revoke(environment: Environment, token: string): Promise<void> {
    const { userTokens, userSessions } = this.parts;
    const refresh = userTokens.readRefreshToken(environment, token);
    const sessionId = refresh?.sessionId ?? (await userTokens.userOf(environment, token).catch(() => null))?.sessionId;
    if (sessionId) await userSessions.end(environment, { id: sessionId }, 'revoked');
  }

  /** RFC 7662 section 2.2. Of a token that is not good, nothing else is told. */
  async introspect(environment: Environment, token: string) {
    const user = await this.parts.userTokens.userOf(environment, token).catch((error: unknown) => {
      if (error instanceof Problem) return null;
      throw error;
    });
    if (!user) return { active: false };
    const [, payload = ''] = token.split('.');
    const { exp, iat, client_id, iss, aud, jti } = JSON.parse(Buffer.from(payload, 'base64url').toString('utf8'));
    return { active: true, token_type: 'Bearer', sub: user.id, client_id, exp, iat, iss, aud, jti, roles: user.roles };
  }
}

function claimsOf(user: UserRow, scopes: readonly string[]) {
  return {
    ...(scopes.includes('email') && user.email ? { email: user.email, email_verified: user.emailConfirmedAt !== null } : {}),
    ...(scopes.includes('profile') && user.name ? { name: user.name } : {}),
  };
}

/** RFC 7636 section 4.6. */
function fitsChallenge(verifier: string | undefined, challenge: string): boolean {
  if (!verifier || !/^[A-Za-z0-9._~-]{43,128}$/.test(verifier)) return false;
  const given = Buffer.from(createHash('sha256').update(verifier).digest('base64url'));
  const wanted = Buffer.from(challenge);
  return given.length === wanted.length && timingSafeEqual(given, wanted);
}

async function asTokenError<T>(work: Promise<T>): Promise<T> {
  try {
    return await work;
  } catch (error) {
    if (error instanceof Problem) throw new TokenError('invalid_grant', error.detail);
    throw error;
  }
}
