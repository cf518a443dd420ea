/** How an upstream is shown who calls. */
import { Problem, type UpstreamDefinition, type UpstreamIdentify } from '@orchard/contract';
import { LRUCache } from 'lru-cache';
import type { Dispatcher } from 'undici';
import { KeptToken } from '../../platform/access/keptToken.js';
import type { Environment } from '../../platform/call.js';
import { CallRefused } from '../functions/callRefused.js';
import { exchange } from './exchange.js';
import type { Parts } from './parts.js';

/** Users whose tokens are kept at a time. */
const MOST_USERS = 5_000;
const TOKEN_WITHIN_MS = 8_000;
const TOKEN_BYTES = 100_000;
type ByToken = Extract<UpstreamIdentify, { way: 'client-credentials' | 'exchange' }>;
export type Shown = { headers: Record<string, string>; forget: () => void };
const NOTHING = () => undefined;

export class Identifying {
  readonly #tokens = new LRUCache<string, KeptToken>({ max: MOST_USERS });

  constructor(
    private readonly parts: Parts,
    private readonly environment: Environment,
    private readonly identify: UpstreamIdentify,
    private readonly agent: Dispatcher,
  ) {}

  /** Whether each user gets answers of their own. */
  get isPersonal(): boolean {
    return this.identify.way === 'exchange' || this.identify.way === 'user-token';
  }

  /** @throws {Problem, CallRefused} where there is no secret, nobody is signed in, or no token is given */
  async headers(userId: string | null): Promise<Shown> {
    const { identify } = this;
    switch (identify.way) {
      case 'none':
      case 'certificate':
        return { headers: {}, forget: NOTHING };
      case 'basic': {
        const pair = Buffer.from(`${identify.user}:${await this.#secret(identify.secret)}`).toString('base64');
        return { headers: { authorization: `Basic ${pair}` }, forget: NOTHING };
      }
      case 'header':
        return {
          headers: { [identify.header.toLowerCase()]: `${identify.prefix ?? ''}${await this.#secret(identify.secret)}` },
          forget: NOTHING,
        };
      case 'user-token':
        return { headers: bearer(await this.#userToken(identify.provider, userId)), forget: NOTHING };
      case 'client-credentials':
        return this.#byToken('', () => this.#ask(identify, { grant_type: 'client_credentials', ...scopeOf(identify) }));
      case 'exchange': {
        const { provider, audience } = identify;
        // RFC 8693 section 2.1.
        const form = async () => ({
          grant_type: 'urn:ietf:params:oauth:grant-type:token-exchange',
          subject_token: await this.#userToken(provider, userId),
          subject_token_type: 'urn:ietf:params:oauth:token-type:access_token',
          ...(audience ? { audience } : {}),
          ...scopeOf(identify),
        });
        return this.#byToken(userId ?? '', async () => this.#ask(identify, await form()));
      }
    }
  }

  async #byToken(owner: string, make: () => Promise<{ token: string; lifeMs: number }>): Promise<Shown> {
    let kept = this.#tokens.get(owner);
    if (!kept) this.#tokens.set(owner, (kept = new KeptToken(this.parts.now, make)));
    const token = await kept.current();
    return { headers: bearer(token), forget: () => kept.forget(token) };
  }

  #secret(name: string): Promise<string> {
    return this.parts.functionPorts.secret(this.environment, name);
  }

  async #userToken(provider: string, userId: string | null): Promise<string> {
    const token = userId && (await this.parts.ports.providerTokens.accessToken(this.environment, userId, provider));
    if (token) return token;
    throw new CallRefused(
      userId
        ? `This user has no token of the provider ${provider}: they sign in with it first.`
        : 'It is called for a signed-in user alone.',
    );
  }

  /** RFC 6749 section 5: a form, with the client's password by HTTP Basic (section 2.3.1). */
  async #ask({ tokenAddress, clientId, secret }: ByToken, form: Record<string, string>): Promise<{ token: string; lifeMs: number }> {
    const pair = `${encodeURIComponent(clientId)}:${encodeURIComponent(await this.#secret(secret))}`;
    const received = await exchange(
      this.agent,
      {
        method: 'POST',
        url: new URL(tokenAddress),
        headers: {
          authorization: `Basic ${Buffer.from(pair).toString('base64')}`,
          'content-type': 'application/x-www-form-urlencoded',
          accept: 'application/json',
        },
        body: new URLSearchParams(form).toString(),
      },
      { withinMs: TOKEN_WITHIN_MS, mostBytes: TOKEN_BYTES },
    );
    const said = jsonOf(received.body);
    const {
      access_token: token,
      expires_in: lifeS = 3600,
      error,
    } = said as { access_token?: unknown; expires_in?: unknown; error?: unknown };
    if (received.status !== 200 || typeof token !== 'string')
      throw new Problem('upstream-failed', undefined, {
        teamDetail: `${new URL(tokenAddress).host} gave no token: ${received.status}${typeof error === 'string' ? `, ${error.slice(0, 100)}` : ''}.`,
      });
    return { token, lifeMs: Number(lifeS) * 1000 || 3_600_000 };
  }
}

const bearer = (token: string) => ({ authorization: `Bearer ${token}` });
const scopeOf = ({ scope }: ByToken): Record<string, string> => (scope ? { scope } : {});

function jsonOf(body: Buffer): object {
  try {
    return (JSON.parse(body.toString()) as object | null) ?? {};
  } catch {
    return {};
  }
}

/** The names of the secrets that a definition uses. */
export function secretsIn({ identify }: Pick<UpstreamDefinition, 'identify'>): string[] {
  return 'secret' in identify ? [identify.secret] : [];
}
