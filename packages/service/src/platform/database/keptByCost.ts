/** Answers that took long are kept for so many times as long as they took, and cheap ones not at all. */
import { LRUCache } from 'lru-cache';

const KEEP_TIMES = 20;
const KEEP_AT_MOST_MS = 10_000;
/** What would be kept for less is not worth being stale. */
const KEEP_AT_LEAST_MS = 200;

export class KeptByCost<Value extends object> {
  readonly #kept = new LRUCache<string, Value>({ max: 500, ttl: 1 });

  get(name: string): Value | undefined {
    return this.#kept.get(name);
  }

  /** @param tookMs how long it took to find out */
  keep(name: string, value: Value, tookMs: number): void {
    const ttl = Math.min(tookMs * KEEP_TIMES, KEEP_AT_MOST_MS);
    if (ttl > KEEP_AT_LEAST_MS) this.#kept.set(name, value, { ttl });
  }
}
