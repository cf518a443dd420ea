/** Writes outcomes of deliveries in small batches while others are in flight; waits while the database is unavailable. */
import { setTimeout as sleep } from 'node:timers/promises';
import { isDatabaseAway, isDeadlock } from '../../platform/database/errors.js';
import type { DeliveryResult } from './deliveryStore.js';

const MOST_GATHERED = 1_000;
/** Above this, sending waits for the database. */
const MOST_WAITING = 4_000;

export class ResultWriter {
  /** Results taken since the last tick, and before it. */
  #young: DeliveryResult[] = [];
  #old: DeliveryResult[] = [];
  #timer: NodeJS.Timeout | null = null;
  #writing: Promise<void> = Promise.resolve();
  #waiting = 0;
  #failed: unknown = null;

  /** @param gatherMs how long a result waits for others, at least half of it */
  constructor(
    private readonly gatherMs: number,
    private readonly save: (results: DeliveryResult[]) => Promise<void>,
  ) {}

  /**
   * Takes a result.
   * @returns a promise to wait for when too many are unwritten
   */
  add(result: DeliveryResult): Promise<void> | null {
    this.#young.push(result);
    this.#waiting++;
    if (this.#young.length >= MOST_GATHERED) this.#strike();
    else this.#timer ??= setTimeout(() => this.#strike(), this.gatherMs / 2);
    return this.#waiting > MOST_WAITING ? this.#writing : null;
  }

  /** Writes the results taken before the last tick. */
  #strike(): void {
    if (this.#timer) clearTimeout(this.#timer);
    const results = this.#old;
    this.#old = this.#young;
    this.#young = [];
    this.#timer = this.#old.length > 0 ? setTimeout(() => this.#strike(), this.gatherMs / 2) : null;
    if (results.length === 0) return;
    this.#writing = this.#writing.then(async () => {
      await this.#write(results);
      this.#waiting -= results.length;
    });
  }

  /** Results must not be lost: writing is retried while the database is unavailable, or after a deadlock. */
  async #write(results: DeliveryResult[]): Promise<void> {
    for (;;) {
      try {
        return await this.save(results);
      } catch (error) {
        if (!isDatabaseAway(error) && !isDeadlock(error)) {
          this.#failed = error;
          return;
        }
        await sleep(isDeadlock(error) ? 5 : 300);
      }
    }
  }

  /**
   * Resolves when everything taken so far is written.
   * @throws the error that prevented a write
   */
  async drained(): Promise<void> {
    this.#old.push(...this.#young.splice(0));
    this.#strike();
    await this.#writing;
    if (this.#failed) throw this.#failed;
  }
}
