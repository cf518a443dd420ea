/** Writes what became of deliveries, a few at a time, while others are under way; waits out a database that is away. */
import { setTimeout as sleep } from 'node:timers/promises';
import { isDatabaseAway } from '../database/connection.js';
import type { DeliveryResult } from './deliveries.js';

const GATHER_MS = 40;
const MOST_GATHERED = 250;
/** Beyond this, sending waits for the database. */
const MOST_WAITING = 2_000;

export class ResultWriter {
  #gathered: DeliveryResult[] = [];
  #timer: NodeJS.Timeout | null = null;
  #writing: Promise<void> = Promise.resolve();
  #waiting = 0;
  #failed: unknown = null;

  constructor(private readonly save: (results: DeliveryResult[]) => Promise<void>) {}

  /** Takes a result; resolves at once, unless too many wait to be written. */
  async add(result: DeliveryResult): Promise<void> {
    this.#gathered.push(result);
    this.#waiting++;
    if (this.#gathered.length >= MOST_GATHERED) this.#flush();
    else this.#timer ??= setTimeout(() => this.#flush(), GATHER_MS);
    if (this.#waiting > MOST_WAITING) await this.#writing;
  }

  #flush(): void {
    if (this.#timer) clearTimeout(this.#timer);
    this.#timer = null;
    const results = this.#gathered;
    this.#gathered = [];
    if (results.length === 0) return;
    this.#writing = this.#writing.then(async () => {
      await this.#write(results);
      this.#waiting -= results.length;
    });
  }

  /** What was sent must not be forgotten: while the database is away, it is tried again until it is back. */
  async #write(results: DeliveryResult[]): Promise<void> {
    for (;;) {
      try {
        return await this.save(results);
      } catch (error) {
        if (!isDatabaseAway(error)) {
          this.#failed = error;
          return;
        }
        await sleep(300);
      }
    }
  }

  /** Resolves when everything taken so far is written. @throws what kept a result from being written */
  async drained(): Promise<void> {
    this.#flush();
    await this.#writing;
    if (this.#failed) throw this.#failed;
  }
}
