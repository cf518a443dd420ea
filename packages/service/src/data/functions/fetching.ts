/** What functions fetch: over https, from hosts that the team listed, and never from a private address. */
import { Agent } from 'undici';
import { hostsOf, publicConnector } from '../../platform/http/publicHosts.js';
import { CallRefused } from './callRefused.js';

const WITHIN_MS = 8_000;
const MOST_BYTES = 1_000_000;
type Options = { method?: unknown; headers?: unknown; body?: unknown };
export type Fetched = { status: number; headers: Record<string, string>; text: string; json: unknown };

export class Fetching {
  readonly #agent: Agent;
  readonly #origins: ReadonlySet<string>;

  /** @param named origins on private networks that the installation's settings list */
  constructor(named: readonly string[]) {
    this.#origins = new Set(named.filter((origin) => /^https?:/.test(origin)).map((origin) => new URL(origin).origin));
    this.#agent = new Agent({
      headersTimeout: WITHIN_MS,
      bodyTimeout: WITHIN_MS,
      maxResponseSize: MOST_BYTES,
      connect: publicConnector(hostsOf([...this.#origins]), { timeout: 5_000 }),
    });
  }

  /** Redirects are not followed: the function sees where they lead. @throws {CallRefused} */
  async fetch(hosts: readonly string[], address: unknown, options: Options = {}): Promise<Fetched> {
    const url = this.#allowed(hosts, String(address));
    const text =
      options.body === undefined || options.body === null || typeof options.body === 'string' ? options.body : JSON.stringify(options.body);
    const given = (options.headers ?? {}) as Record<string, string>;
    const reply = await this.#agent
      .request({
        origin: url.origin,
        path: url.pathname + url.search,
        method: String(options.method ?? 'GET').toUpperCase() as never,
        headers: { ...(typeof options.body === 'object' && options.body ? { 'content-type': 'application/json' } : {}), ...given },
        ...(text === undefined ? {} : { body: text as string | null }),
      })
      .catch((error) => {
        throw new CallRefused(`${url.host} cannot be reached: ${(error as Error).message}.`);
      });
    const body = await reply.body.text().catch((error) => {
      throw new CallRefused(`${url.host} did not finish its response: ${(error as Error).message}.`);
    });
    return { status: reply.statusCode, headers: flat(reply.headers), text: body, json: jsonOf(body) };
  }

  #allowed(hosts: readonly string[], address: string): URL {
    if (!URL.canParse(address)) throw new CallRefused(`${address.slice(0, 100)} is not an address.`);
    const url = new URL(address);
    if (url.protocol !== 'https:' && !this.#origins.has(url.origin)) throw new CallRefused(`${url.origin} is not https.`);
    if (!hosts.includes(url.hostname))
      throw new CallRefused(`${url.hostname} is not among the hosts of this function: ${hosts.join(', ') || 'it has none'}.`);
    return url;
  }

  close(): void {
    void this.#agent.close();
  }
}

const flat = (headers: Record<string, string | string[] | undefined>): Record<string, string> =>
  Object.fromEntries(Object.entries(headers).map(([name, value]) => [name, Array.isArray(value) ? value.join(', ') : (value ?? '')]));

function jsonOf(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}
