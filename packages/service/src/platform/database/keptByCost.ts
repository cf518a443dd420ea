/** A cache that keeps a result for a multiple of the time it took, and cheap ones not at all. */
import { LRUCache } from 'lru-cache';

const KEEP_TIMES = 20;
const KEEP_AT_MOST_MS = 10_000;
/** Results that would be kept for less are not cached. */
const KEEP_AT_LEAST_MS = 200;

export class KeptByCost<Value extends object> {
  readonly #kept = new LRUCache<string, Value>({ max: 500, ttl: 1 });

  get(name: string): Value | undefined {
    return this.#kept.get(name);
  }

  /** @param tookMs how long the result took */
  keep(name: string, value: Value, tookMs: number): void {
    const ttl = Math.min(tookMs * KEEP_TIMES, KEEP_AT_MOST_MS);
    if (ttl > KEEP_AT_LEAST_MS) this.#kept.set(name, value, { ttl });
  }
}
