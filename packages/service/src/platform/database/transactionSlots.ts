import { AsyncLocalStorage } from 'node:async_hooks';
import pLimit, { type LimitFunction } from 'p-limit';

/**
 * Transactions that one pool runs at a time: half of its connections. Work inside one may send other statements beside it,
 * and if transactions held every connection, all would wait for another one for ever.
 */
export class TransactionSlots {
  readonly #limit: LimitFunction;
  /** Work that holds a slot does not wait for a second one. */
  readonly #holding = new AsyncLocalStorage<true>();

  constructor(atOnce: number) {
    this.#limit = pLimit(atOnce);
  }

  take<T>(work: () => Promise<T>): Promise<T> {
    return this.#holding.getStore() ? work() : this.#limit(() => this.#holding.run(true, work));
  }
}
