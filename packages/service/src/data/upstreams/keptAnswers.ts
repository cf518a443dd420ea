/** Answers kept as long as they say (RFC 9111), by upstream, address and, where answers are personal, user. */
import CachePolicy from 'http-cache-semantics';
import { LRUCache } from 'lru-cache';
import type { Received } from './exchange.js';

/** As it was asked for, before the service adds who it is itself: an Authorization of somebody else keeps an answer out (RFC 9111 section 3.5). */
type Asked = { method: string; url: string; headers: Record<string, string> };
type Kept = { policy: CachePolicy; answer: Received };
/** RFC 9111 sections 4.2.1 and 4.2.2: what freshness is reckoned from. */
const FRESHNESS = ['cache-control', 'expires', 'last-modified'];
/** Of all upstreams of an instance. */
const MOST_BYTES = 64_000_000;
const MOST_ANSWERS = 20_000;

export class KeptAnswers {
  readonly #kept = new LRUCache<string, Kept>({
    max: MOST_ANSWERS,
    maxSize: MOST_BYTES,
    sizeCalculation: ({ answer }) => answer.body.length + 500,
  });

  /** An answer that may be given without asking; or one to be asked about, with the headers that do so. */
  find(key: string, asked: Asked): { fresh: Received } | { stale: Kept; headers: Record<string, string> } | null {
    const kept = this.#kept.get(key);
    if (!kept) return null;
    if (kept.policy.satisfiesWithoutRevalidation(asked)) return { fresh: withAge(kept) };
    return { stale: kept, headers: kept.policy.revalidationHeaders(asked) as Record<string, string> };
  }

  /** Keeps an answer, if it may be kept. @param isShared whether it is the same for all users */
  keep(key: string, asked: Asked, answer: Received, isShared: boolean): void {
    // Without any of these nothing says for how long, and reading the policy costs more than the call.
    if (!FRESHNESS.some((name) => name in answer.headers)) return;
    const policy = new CachePolicy(asked, answer, { shared: isShared });
    if (policy.storable() && policy.timeToLive() > 0) this.#kept.set(key, { policy, answer }, { ttl: policy.timeToLive() + STALE_MS });
    else this.#kept.delete(key);
  }

  /** After it was asked about: 304 makes the kept one fresh again, and a failure may leave it in use (RFC 5861 section 4). */
  revalidated(key: string, asked: Asked, { policy, answer }: Kept, received: Received): Received {
    const next = policy.revalidatedPolicy(asked, received);
    const shown = next.modified ? received : { ...answer, headers: { ...answer.headers, ...headersOf(next.policy) } };
    if (next.policy.storable()) this.#kept.set(key, { policy: next.policy, answer: shown }, { ttl: next.policy.timeToLive() + STALE_MS });
    return next.modified ? received : shown;
  }

  /** Bytes kept of an upstream, by the beginning of its keys. */
  bytesOf(prefix: string): number {
    let bytes = 0;
    for (const [key, { answer }] of this.#kept.entries()) if (key.startsWith(prefix)) bytes += answer.body.length;
    return bytes;
  }

  forget(prefix: string): void {
    for (const key of [...this.#kept.keys()]) if (key.startsWith(prefix)) this.#kept.delete(key);
  }
}

/** How long a stale answer stays, to be asked about. */
const STALE_MS = 600_000;

const headersOf = (policy: CachePolicy): Record<string, string> => policy.responseHeaders() as Record<string, string>;
/** RFC 9111 section 5.1. */
const withAge = ({ policy, answer }: Kept): Received => ({
  ...answer,
  headers: { ...answer.headers, age: String(Math.round(policy.age())) },
});
