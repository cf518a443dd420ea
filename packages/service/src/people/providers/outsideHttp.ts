/** Calls to providers outside: guarded hosts, no redirects, a time limit. */
import { Problem } from '@orchard/contract';
import { Agent, fetch as fetchBy } from 'undici';
import { hostsOf, publicConnector } from '../../platform/http/publicHosts.js';
import type { Platform } from '../../platform/platform.js';

export const WITHIN_S = 10;

export class OutsideHttp {
  readonly #agent: Agent;

  constructor(private readonly parts: Pick<Platform, 'config'>) {
    this.#agent = new Agent({
      connect: publicConnector(this.trustedHosts(), { timeout: WITHIN_S * 1000 }),
    });
  }

  /** Origins that the settings name may be private. */
  trustedHosts(): ReadonlySet<string> {
    return hostsOf(this.parts.config.pushOrigins);
  }

  /** Whether it may be called without TLS. */
  isTrusted(address: string): boolean {
    return this.parts.config.pushOrigins.includes(new URL(address).origin);
  }

  /** @throws {Problem} invalid-input */
  demandSafe(address: string): void {
    const { protocol, origin } = new URL(address);
    if (protocol !== 'https:' && !this.isTrusted(address))
      throw new Problem(
        'invalid-input',
        `${origin} is no https address. To use one within the own network, list its origin in ORCHARD_PUSH_ORIGINS.`,
      );
  }

  /** As the protocol libraries want it. A redirect could lead anywhere, so none is followed. */
  readonly fetch = ((url: string, options: object = {}) => {
    this.demandSafe(url);
    const limit = { signal: AbortSignal.timeout(WITHIN_S * 1000) };
    return fetchBy(url, { ...limit, ...options, redirect: 'manual', dispatcher: this.#agent });
  }) as unknown as typeof fetch;

  /** How far the clock there is ahead of ours, in milliseconds; null when it does not say. */
  async clockOff(address: string, now: number): Promise<number | null> {
    const reply = await this.fetch(address, { method: 'HEAD' }).catch(() => null);
    const date = Date.parse(reply?.headers.get('date') ?? '');
    return Number.isNaN(date) ? null : date - now;
  }

  close(): Promise<void> {
    return this.#agent.close();
  }
}
