/** OpenID Connect and plain OAuth 2.0: authorization code with PKCE, state and nonce, by `openid-client`. */
import { Problem } from '@orchard/contract';
import * as openid from 'openid-client';
import type { Environment } from '../../platform/call.js';
import { type OutsideHttp, WITHIN_S } from './outsideHttp.js';
import { type OutsidePerson, personOf, type ProviderTokens, STANDARD_CLAIMS } from './person.js';
import { openSecret, type WayOf } from './ways.js';

type Way = WayOf<'openid'> | WayOf<'oauth'>;
/** Metadata of a provider is read again after this time: its keys and addresses change. */
const KNOWN_MS = 10 * 60_000;
const CLOCK_MS = 60_000;

/** What is kept between leaving for the provider and coming back. */
export type Begun = { verifier: string; state: string; nonce: string };

export class OpenIdProviders {
  readonly #known = new Map<string, { config: openid.Configuration; at: number }>();

  constructor(
    private readonly http: OutsideHttp,
    private readonly now: () => number,
  ) {}

  /** What is known of the provider. @throws {Error} when it cannot be read, or is another one */
  async configure(environment: Environment, name: string, way: Way): Promise<openid.Configuration> {
    const key = `${environment.id} ${name} ${JSON.stringify(way)}`;
    const known = this.#known.get(key);
    if (known && this.now() - known.at < KNOWN_MS) return known.config;
    const config = await this.#read(environment, name, way);
    this.#known.set(key, { config, at: this.now() });
    return config;
  }

  /** Keys of a provider change: what was known is read again. */
  forget(environment: Environment, name: string): void {
    for (const key of this.#known.keys()) if (key.startsWith(`${environment.id} ${name} `)) this.#known.delete(key);
  }

  async #read(environment: Environment, name: string, way: Way): Promise<openid.Configuration> {
    const secret = way.secret === null ? null : openSecret(environment, name, way.secret);
    const proof = secret === null ? openid.None() : openid.ClientSecretPost(secret);
    const addresses = way.kind === 'oauth' ? [way.authorizeAddress, way.tokenAddress, way.personAddress] : [way.issuer];
    for (const address of addresses) this.http.demandSafe(address);
    const isPlain = addresses.some((address) => new URL(address).protocol === 'http:');
    // The signature of ID tokens is checked as well, although TLS has said who sent them (OpenID Connect Core section 3.1.3.7).
    const checks = way.kind === 'openid' ? [openid.enableNonRepudiationChecks] : [];
    const byHand = way.kind === 'oauth' ? oauthMetadata(way) : way.endpoints && openidMetadata(way, way.endpoints);
    if (!byHand && way.kind === 'openid')
      return openid.discovery(new URL(way.issuer), way.clientId, undefined, proof, {
        timeout: WITHIN_S,
        execute: [...(isPlain ? [openid.allowInsecureRequests] : []), ...checks],
        [openid.customFetch]: this.http.fetch as never,
      });
    const config = new openid.Configuration(byHand as openid.ServerMetadata, way.clientId, undefined, proof);
    config.timeout = WITHIN_S;
    config[openid.customFetch] = this.http.fetch as never;
    if (isPlain) openid.allowInsecureRequests(config);
    for (const check of checks) check(config);
    return config;
  }

  /** The address of the provider to which the browser goes. */
  async begin(environment: Environment, name: string, way: Way, redirectUri: string): Promise<{ address: string; begun: Begun }> {
    const config = await this.configure(environment, name, way);
    const begun = { verifier: openid.randomPKCECodeVerifier(), state: openid.randomState(), nonce: openid.randomNonce() };
    const parameters = {
      redirect_uri: redirectUri,
      ...(way.scopes.length > 0 ? { scope: way.scopes.join(' ') } : {}),
      code_challenge: await openid.calculatePKCECodeChallenge(begun.verifier),
      code_challenge_method: 'S256',
      state: begun.state,
      ...(way.kind === 'openid' ? { nonce: begun.nonce } : {}),
    };
    return { address: openid.buildAuthorizationUrl(config, parameters).href, begun };
  }

  /** Who comes back. @throws {Error} for an answer that does not fit what was begun */
  async end(environment: Environment, name: string, way: Way, back: URL, begun: Begun): Promise<OutsidePerson> {
    const config = await this.configure(environment, name, way);
    const isOpenId = way.kind === 'openid';
    const reply = await openid.authorizationCodeGrant(config, back, {
      pkceCodeVerifier: begun.verifier,
      expectedState: begun.state,
      ...(isOpenId ? { expectedNonce: begun.nonce, idTokenExpected: true } : {}),
    });
    const tokens = tokensOf(reply, this.now());
    if (way.kind === 'openid') {
      const claims = reply.claims() as openid.IDToken;
      // OpenID Connect Core section 3.1.3.7, item 10: not one that was issued too far from now.
      if (claims.iat * 1000 > this.now() + CLOCK_MS) throw new Error('The ID token is of the future: the clock of the provider is off.');
      return { ...personOf(claims.iss, claims, { ...STANDARD_CLAIMS, groups: way.groupsClaim }), tokens };
    }
    const told = await openid.fetchProtectedResource(
      config,
      reply.access_token,
      new URL(way.personAddress),
      'GET',
      null,
      new Headers({ accept: 'application/json' }),
    );
    if (!told.ok) throw new Error(`${way.personAddress} answers ${told.status} instead of saying who it is.`);
    return { ...personOf(way.authorizeAddress, await told.json(), way.claims), tokens };
  }

  /** New tokens for old. @throws {Error} */
  async refresh(environment: Environment, name: string, way: Way, refreshToken: string): Promise<ProviderTokens> {
    const config = await this.configure(environment, name, way);
    const next = tokensOf(await openid.refreshTokenGrant(config, refreshToken), this.now());
    return { ...next, refreshToken: next.refreshToken ?? refreshToken };
  }

  /** Takes tokens back, where the provider can (RFC 7009). */
  async revoke(environment: Environment, name: string, way: Way, { accessToken, refreshToken }: ProviderTokens): Promise<void> {
    const config = await this.configure(environment, name, way);
    if (!config.serverMetadata().revocation_endpoint) return;
    await openid.tokenRevocation(config, refreshToken ?? accessToken);
  }
}

function oauthMetadata(way: WayOf<'oauth'>): openid.ServerMetadata {
  return {
    issuer: new URL(way.authorizeAddress).origin,
    authorization_endpoint: way.authorizeAddress,
    token_endpoint: way.tokenAddress,
    ...(way.revokeAddress ? { revocation_endpoint: way.revokeAddress } : {}),
  };
}

function openidMetadata(
  { issuer }: WayOf<'openid'>,
  { authorize, token, keys, revoke }: NonNullable<WayOf<'openid'>['endpoints']>,
): openid.ServerMetadata {
  return {
    issuer,
    authorization_endpoint: authorize,
    token_endpoint: token,
    jwks_uri: keys,
    ...(revoke ? { revocation_endpoint: revoke } : {}),
  };
}

function tokensOf(reply: { access_token: string; refresh_token?: string; expires_in?: number }, now: number): ProviderTokens {
  const { access_token, refresh_token, expires_in } = reply;
  return {
    accessToken: access_token,
    refreshToken: refresh_token ?? null,
    expiresAt: expires_in === undefined ? null : now + expires_in * 1000,
  };
}

/** Why metadata of a provider cannot be used, in words. */
export function discoveryWords(error: Error & { code?: string }, issuer: string): string {
  if (error instanceof Problem) return error.detail;
  if (error.code === 'OAUTH_JSON_ATTRIBUTE_COMPARISON_FAILED')
    return `What answers there calls itself another issuer than ${issuer}. Enter the address exactly as the provider writes it.`;
  const cause = error.cause as { code?: string; message?: string } | undefined;
  const at = `${issuer.replace(/\/$/, '')}/.well-known/openid-configuration`;
  const isNetwork =
    error.name === 'TypeError' || error.name === 'TimeoutError' || /^(E[A-Z]+|PRIVATE_ADDRESS|UND_ERR)/.test(cause?.code ?? '');
  return isNetwork
    ? `${at} cannot be reached: ${cause?.message ?? error.message}.`
    : `No OpenID provider answers at ${at}: ${error.message}.`;
}

type ProtocolError = Error & { code?: string; error?: string; error_description?: string; cause?: unknown };

/** Why an answer of a provider is not accepted, for the team: the mistakes that people make. */
export function openIdWords(thrown: ProtocolError, way: Way, redirectAddress: string): string {
  const error = innermost(thrown);
  const said = [error.error, error.error_description].filter(Boolean).join(': ');
  switch (error.code) {
    case 'OAUTH_AUTHORIZATION_RESPONSE_ERROR':
      return `The provider sent the person back with ${said}.${ADVICE_AT_AUTHORIZE[error.error ?? ''] ?? ''}`;
    case 'OAUTH_RESPONSE_BODY_ERROR':
      return `The provider does not give tokens for the code: ${said}.${adviceAtToken(error.error, way, redirectAddress)}`;
    case 'OAUTH_JWT_CLAIM_COMPARISON_FAILED':
      return claimWords(error, way);
    case 'OAUTH_JWT_TIMESTAMP_CHECK_FAILED':
      return `The ID token has expired, or is not valid yet: a clock is off (${error.message}).`;
    case 'OAUTH_KEY_SELECTION_FAILED':
      return 'The ID token is signed with a key that the provider does not publish.';
    default:
      return /signature verification/i.test(error.message)
        ? 'The signature of the ID token is wrong: it is not by a key that the provider publishes.'
        : error.message;
  }
}

/** The library says what is wrong in the error inside its own; so does the network. */
function innermost(error: ProtocolError): ProtocolError {
  const inner = error.cause;
  return inner instanceof Error && error.error === undefined ? innermost(inner) : error;
}

/** RFC 6749 section 4.1.2.1. */
const ADVICE_AT_AUTHORIZE: Record<string, string> = {
  access_denied: ' The person did not agree, or a rule of the provider keeps them out.',
  invalid_scope: ' It does not give this client the scopes that are asked for.',
  unauthorized_client: ' It does not let this client use the authorization code.',
};

/** RFC 6749 section 5.2. */
function adviceAtToken(error: string | undefined, { clientId, secret }: Way, redirectAddress: string): string {
  if (error === 'invalid_client' || error === 'unauthorized_client')
    return ` Compare the client id ${clientId} and ${secret === null ? 'whether it needs a secret' : 'its secret'} with what the provider shows; secrets end, too.`;
  if (error === 'invalid_grant')
    return ` Its redirect address there must be exactly ${redirectAddress}; a code works once, and not for long.`;
  return '';
}

function claimWords(error: ProtocolError, { clientId }: Way): string {
  const { claim } = (error.cause ?? {}) as { claim?: string };
  if (claim === 'aud') return `The ID token is for another client than ${clientId}.`;
  if (claim === 'nonce') return 'The ID token belongs to another sign-in: its nonce is not the one that was sent.';
  if (claim === 'iss') return 'The ID token is of another issuer than the one that was asked.';
  return `The ID token does not fit: ${error.message}.`;
}
