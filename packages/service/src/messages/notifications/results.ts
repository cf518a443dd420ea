/** Writes what became of deliveries, a few at a time, while others are under way; waits out a database that is away. */
import { setTimeout as sleep } from 'node:timers/promises';
import { isDatabaseAway, isDeadlock } from '../../platform/database/connection.js';
import type { DeliveryResult } from './deliveries.js';

const MOST_GATHERED = 1_000;
/** Beyond this, sending waits for the database. */
const MOST_WAITING = 4_000;

export class ResultWriter {
  /** Taken since the clock last struck, and before. */
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

  /** Takes a result. @returns what to wait for when too many are to be written */
  add(result: DeliveryResult): Promise<void> | null {
    this.#young.push(result);
    this.#waiting++;
    if (this.#young.length >= MOST_GATHERED) this.#strike();
    else this.#timer ??= setTimeout(() => this.#strike(), this.gatherMs / 2);
    return this.#waiting > MOST_WAITING ? this.#writing : null;
  }

  /** Writes what was there at the last strike. */
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

  /** What was sent must not be forgotten: it is tried again while the database is away, or when it was ended for another's sake. */
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

  /** Resolves when everything taken so far is written. @throws what kept a result from being written */
  async drained(): Promise<void> {
    this.#old.push(...this.#young.splice(0));
    this.#strike();
    await this.#writing;
    if (this.#failed) throw this.#failed;
  }
}
