/** Signing in at a provider outside, by OpenID Connect: there and back, and whose account it is. */
import { createHash } from 'node:crypto';
import { type NewSignInWay, Problem } from '@orchard/contract';
import * as openid from 'openid-client';
import { Agent, fetch as fetchBy } from 'undici';
import { hashKey, seal, unseal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { lookupPublic } from '../../platform/http/publicHosts.js';
import { Settings } from '../../platform/settings/settingStore.js';
import { demandSignUp } from '../users/entry.js';
import type { UserRow } from '../users/store.js';
import type { AuthorizationStore } from './authorizationStore.js';
import type { Parts } from './parts.js';

/** The secret is sealed. */
export type SignInWay = Omit<NewSignInWay, 'secret'> & { secret: string | null };
export const signInWays = new Settings<{ ways: Record<string, SignInWay> }>('sign-in ways', () => ({ ways: {} }));

const WITHIN_S = 10;
const THERE_MS = 10 * 60_000;
/** Metadata of a provider is read again after this time: its keys and addresses change. */
const KNOWN_MS = 10 * 60_000;
const CREDENTIAL = 'openid';
export const secretContext = ({ id }: Environment, way: string): string => `sign-in way ${id} ${way}`;

/** Somebody else has the address, and it was not proved by both ways. */
export class OtherAccount extends Error {}

export class OutsideWays {
  readonly #agent: Agent;
  readonly #known = new Map<string, { config: openid.Configuration; at: number }>();

  constructor(
    private readonly parts: Parts,
    private readonly store: AuthorizationStore,
  ) {
    this.#agent = new Agent({
      connect: { timeout: WITHIN_S * 1000, lookup: (host, options, done) => lookupPublic(host, options, this.#trustedHosts(), done) },
    });
  }

  /** Origins that the settings name may be private. */
  #trustedHosts(): Set<string> {
    return new Set(this.parts.config.pushOrigins.filter((origin) => URL.canParse(origin)).map((origin) => new URL(origin).hostname));
  }

  redirectAddress(environment: Environment, way: string): string {
    return `${this.parts.userTokens.issuerOf(environment)}/ways/${way}/return`;
  }

  /** Those that a client may use. */
  async of(environment: Environment, client: string): Promise<[name: string, way: SignInWay][]> {
    const { ways } = await signInWays.read(environment);
    return Object.entries(ways).filter(([, { clients }]) => clients.length === 0 || clients.includes(client));
  }

  /** What the provider says of itself. @throws {Error} when it cannot be read, or is another one */
  async discover(environment: Environment, name: string, way: SignInWay): Promise<openid.Configuration> {
    const key = `${environment.id} ${name} ${JSON.stringify(way)}`;
    const known = this.#known.get(key);
    if (known && this.parts.now() - known.at < KNOWN_MS) return known.config;
    const issuer = new URL(way.issuer);
    if (issuer.protocol !== 'https:' && !this.parts.config.pushOrigins.includes(issuer.origin))
      throw new Problem(
        'invalid-input',
        `${issuer.origin} is no https address. To use one within the own network, list its origin in ORCHARD_PUSH_ORIGINS.`,
      );
    const secret = way.secret === null ? null : unseal(environment.keys.data, secretContext(environment, name), way.secret).toString();
    const config = await openid.discovery(
      issuer,
      way.clientId,
      undefined,
      secret === null ? openid.None() : openid.ClientSecretPost(secret),
      {
        timeout: WITHIN_S,
        execute: issuer.protocol === 'https:' ? [] : [openid.allowInsecureRequests],
        // A redirect could lead anywhere.
        [openid.customFetch]: ((url: string, options: object) =>
          fetchBy(url, { ...options, redirect: 'manual', dispatcher: this.#agent })) as never,
      },
    );
    this.#known.set(key, { config, at: this.parts.now() });
    return config;
  }

  /** The address of the provider to which the browser goes. */
  async begin(environment: Environment, name: string, way: SignInWay, request: string): Promise<string> {
    const config = await this.discover(environment, name, way);
    const verifier = openid.randomPKCECodeVerifier();
    const [state, nonce] = [openid.randomState(), openid.randomNonce()];
    await this.store.beginOutside(environment, {
      stateHash: hashKey(state),
      requestHash: hashKey(request),
      way: name,
      verifier: seal(environment.keys.data, `verifier ${hashKey(state)}`, verifier),
      nonce,
      expiresAt: new Date(this.parts.now() + THERE_MS),
    });
    const parameters = {
      redirect_uri: this.redirectAddress(environment, name),
      scope: way.scopes.join(' '),
      code_challenge: await openid.calculatePKCECodeChallenge(verifier),
      code_challenge_method: 'S256',
      state,
      nonce,
    };
    return openid.buildAuthorizationUrl(config, parameters).href;
  }

  /**
   * Whoever comes back from the provider.
   * @param request of our own page, as the browser holds it
   * @throws {OtherAccount | Problem | Error}
   */
  async end(environment: Environment, name: string, query: URLSearchParams, request: string): Promise<UserRow> {
    const state = query.get('state') ?? '';
    const begun = await this.store.endOutside(environment, state, new Date(this.parts.now()));
    if (!begun || begun.way !== name || begun.requestHash !== hashKey(request))
      throw new Error('It was not begun in this browser, or too long ago.');
    const way = (await signInWays.read(environment)).ways[name];
    if (!way) throw new Error('The way has been removed meanwhile.');
    const config = await this.discover(environment, name, way);
    const back = new URL(`${this.redirectAddress(environment, name)}?${query}`);
    const tokens = await openid.authorizationCodeGrant(config, back, {
      pkceCodeVerifier: unseal(environment.keys.data, `verifier ${begun.stateHash}`, begun.verifier).toString(),
      expectedState: state,
      expectedNonce: begun.nonce,
      idTokenExpected: true,
    });
    return this.#accountOf(environment, tokens.claims() as openid.IDToken);
  }

  /**
   * The account of a person outside. The same address joins two ways only when both have proved it: else whoever controls an
   * address at a careless provider would get the account.
   */
  async #accountOf(environment: Environment, claims: openid.IDToken): Promise<UserRow> {
    const { userStore, userSessions } = this.parts;
    const identifier = createHash('sha256')
      .update(JSON.stringify([claims.iss, claims.sub]))
      .digest('base64url');
    const known = await userStore.findByCredential(environment, CREDENTIAL, identifier);
    if (known?.disabled) throw new Problem('sign-in-refused');
    if (known) return known;
    const isProved = claims.email_verified === true && typeof claims.email === 'string';
    const email = isProved ? (claims.email as string).toLowerCase() : null;
    const other = email === null ? null : await userStore.findByEmail(environment, email);
    if (other && !other.emailConfirmedAt) throw new OtherAccount();
    if (other?.disabled) throw new Problem('sign-in-refused');
    if (!other) await demandSignUp(environment, { email: email ?? '' }, { isOutside: true });
    const now = new Date(this.parts.now());
    const name = typeof claims.name === 'string' ? claims.name.slice(0, 200) : undefined;
    const user = other ?? (await userSessions.makeUser(environment, { email, name, emailConfirmedAt: email ? now : undefined }));
    await userStore.addCredential(environment, {
      id: this.parts.newId(),
      userId: user.id,
      kind: CREDENTIAL,
      identifier,
      verifier: JSON.stringify({ iss: claims.iss, sub: claims.sub }).slice(0, 500),
      createdAt: now,
    });
    return user;
  }

  /** How far the provider's clock is ahead of ours; null when it does not say. */
  async clockOff(issuer: string): Promise<number | null> {
    const options = { method: 'HEAD', redirect: 'manual', dispatcher: this.#agent, signal: AbortSignal.timeout(WITHIN_S * 1000) } as const;
    const reply = await fetchBy(issuer, options).catch(() => null);
    const date = Date.parse(reply?.headers.get('date') ?? '');
    return Number.isNaN(date) ? null : date - this.parts.now();
  }

  close(): Promise<void> {
    return this.#agent.close();
  }
}
