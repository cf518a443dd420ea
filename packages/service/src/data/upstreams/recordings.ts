/** Answers of an upstream that are recorded once, and played where nobody is to be called. */
import { createHash } from 'node:crypto';
import { Problem } from '@orchard/contract';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Environment } from '../../platform/call.js';
import type { Received } from './exchange.js';
import type { Order } from './order.js';
import type { UpstreamStore } from './store.js';

const ASKED_CHARS = 2_000;

export class Recordings {
  /** @param isPersonal whether each user has answers of their own */
  constructor(
    private readonly store: UpstreamStore,
    private readonly environment: Environment,
    private readonly upstream: string,
    private readonly isPersonal: boolean,
  ) {}

  /** @throws {Problem} upstream-failed where nothing was recorded */
  async play(order: Order): Promise<Received> {
    const found = await this.store.recording(this.environment, this.upstream, this.#markOf(order));
    if (!found)
      throw new Problem(
        'upstream-failed',
        `${this.upstream} plays recorded answers, and there is none for ${askedText(order)}. Record it first.`,
      );
    const headers = storedJson(found.headers as never) as unknown as Record<string, string>;
    return { status: found.status, headers, body: Buffer.from(found.body) };
  }

  async record(order: Order, { status, headers, body }: Received, at: Date): Promise<void> {
    const { 'set-cookie': _, ...kept } = headers;
    await this.store.record(this.environment, {
      upstream: this.upstream,
      mark: this.#markOf(order),
      asked: askedText(order).slice(0, ASKED_CHARS),
      status,
      headers: kept,
      body: body.toString(),
      at,
    });
  }

  /** What stands for a call among the recorded ones. */
  #markOf({ method, path, query, body, userId }: Order): string {
    const sorted = Object.entries(query).sort(([a], [b]) => (a < b ? -1 : 1));
    const whose = this.isPersonal ? [userId] : [];
    return createHash('sha256')
      .update(JSON.stringify([method, path, sorted, body ?? null, ...whose]))
      .digest('hex');
  }
}

const askedText = ({ method, path, query }: Order): string =>
  `${method} ${path}${Object.keys(query).length > 0 ? `?${new URLSearchParams(query)}` : ''}`;
