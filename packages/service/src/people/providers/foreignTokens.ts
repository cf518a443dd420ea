/** Tokens that others have signed: ID tokens an app got by itself, and those of another issuer. */
import { createRemoteJWKSet, customFetch, decodeJwt, errors, jwtVerify } from 'jose';
import type { OutsideHttp } from './outsideHttp.js';
import { type OutsidePerson, personOf, STANDARD_CLAIMS } from './person.js';
import type { WayOf } from './ways.js';

/** Only signatures that a holder of the public key cannot make (RFC 8725 section 3.1). */
const ALGORITHMS = ['RS256', 'RS384', 'RS512', 'PS256', 'PS384', 'PS512', 'ES256', 'ES384', 'ES512', 'EdDSA', 'Ed25519'];
const CLOCK_S = 60;
/** An ID token is for the sign-in that it was asked for. */
const MOST_AGE_S = 600;

export class ForeignTokens {
  readonly #keys = new Map<string, ReturnType<typeof createRemoteJWKSet>>();

  constructor(
    private readonly http: OutsideHttp,
    private readonly now: () => number,
  ) {}

  #keysAt(address: string) {
    this.http.demandSafe(address);
    let keys = this.#keys.get(address);
    if (!keys) {
      keys = createRemoteJWKSet(new URL(address), { timeoutDuration: 10_000, [customFetch]: this.http.fetch as never });
      this.#keys.set(address, keys);
    }
    return keys;
  }

  /** The keys at an address, to see whether there are any. */
  async keysFound(address: string): Promise<number> {
    const reply = await this.http.fetch(address);
    if (!reply.ok) throw new Error(`it answers ${reply.status}`);
    const { keys } = (await reply.json()) as { keys?: unknown[] };
    if (!Array.isArray(keys)) throw new Error('it is no JSON Web Key Set (RFC 7517 section 5)');
    return keys.length;
  }

  /** The nonce that a token carries, before it is checked. @throws {Error} */
  nonceOf(token: string): string {
    const { nonce } = decodeJwt(token);
    if (typeof nonce !== 'string') throw new Error('The ID token has no nonce.');
    return nonce;
  }

  /**
   * Whom an ID token names, checked in full (OpenID Connect Core section 3.1.3.7). Its nonce is the caller's to check.
   * @throws {Error} that says what is wrong
   */
  async readIdToken(way: WayOf<'openid'>, keysAddress: string, token: string): Promise<OutsidePerson> {
    const audiences = [way.clientId, ...way.nativeClientIds];
    const payload = await this.#verify(token, keysAddress, { issuer: way.issuer, audience: audiences, maxTokenAge: MOST_AGE_S });
    if (Array.isArray(payload.aud) && payload.aud.length > 1 && !audiences.includes(String(payload.azp)))
      throw new Error('The ID token is for several audiences, and `azp` names none of ours.');
    return personOf(way.issuer, payload, { ...STANDARD_CLAIMS, groups: way.groupsClaim });
  }

  /** Whom a token of another issuer names. @throws {Error} that says what is wrong */
  async readToken(way: WayOf<'tokens'>, token: string): Promise<OutsidePerson> {
    const payload = await this.#verify(token, way.keysAddress, { issuer: way.issuer, audience: way.audience });
    return personOf(way.issuer, payload, way.claims);
  }

  async #verify(token: string, keysAddress: string, wanted: { issuer: string; audience: string | string[]; maxTokenAge?: number }) {
    try {
      const { payload } = await jwtVerify(token, this.#keysAt(keysAddress), {
        ...wanted,
        algorithms: ALGORITHMS,
        clockTolerance: CLOCK_S,
        currentDate: new Date(this.now()),
        requiredClaims: ['exp', 'iat'],
      });
      return payload;
    } catch (error) {
      throw new Error(tokenWords(error as Error, wanted), { cause: error });
    }
  }
}

function tokenWords(error: Error, { issuer, audience }: { issuer: string; audience: string | string[] }): string {
  if (error instanceof errors.JWTExpired) return 'The token has expired, or is too old. If it is new, a clock is off.';
  if (error instanceof errors.JWTClaimValidationFailed) {
    if (error.claim === 'iss') return `The token is of another issuer than ${issuer}.`;
    if (error.claim === 'aud') return `The token is for another audience than ${[audience].flat().join(', ')}.`;
    if (error.claim === 'iat') return 'The token is of the future: a clock is off.';
    return `The token does not fit: ${error.message}.`;
  }
  if (error instanceof errors.JWKSNoMatchingKey) return 'The token is signed with a key that its issuer does not publish.';
  if (error instanceof errors.JWSSignatureVerificationFailed) return 'The signature of the token is wrong.';
  if (error instanceof errors.JWSInvalid || error instanceof errors.JWTInvalid) return 'This is no signed token (RFC 7519).';
  return `The token cannot be checked: ${error.message}.`;
}
