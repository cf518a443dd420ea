/** Rows that nobody waits for: gathered in memory for each environment, and written together a second later. */
import type { Logger } from 'pino';
import type { Environment } from './call.js';
import { isDatabaseUnable } from './database/errors.js';

const FLUSH_MS = 1_000;

export class WriteBehind<Row> {
  readonly #waiting = new Map<string, { environment: Environment; rows: Row[] }>();
  #timer: NodeJS.Timeout | null = null;
  #last: Promise<void> = Promise.resolve();

  /**
   * @param settings `what` in words for the log; `most` rows of an environment are kept while the database is away; `write` stores
   * rows of one environment
   */
  constructor(
    private readonly log: Logger,
    private readonly settings: { what: string; most: number; write: (environment: Environment, rows: Row[]) => Promise<void> },
  ) {}

  start(): void {
    this.#timer = setInterval(() => void this.flush(), FLUSH_MS);
  }

  /** Takes a row, without I/O. @param row made only if there is room for it */
  add(environment: Environment, row: () => Row): void {
    let waiting = this.#waiting.get(environment.id);
    if (!waiting) this.#waiting.set(environment.id, (waiting = { environment, rows: [] }));
    if (waiting.rows.length < this.settings.most) waiting.rows.push(row());
  }

  /** Writes what waits, after what is being written; it never throws. */
  flush(): Promise<void> {
    this.#last = this.#last.then(() => this.#write());
    return this.#last;
  }

  async #write(): Promise<void> {
    for (const waiting of this.#waiting.values()) {
      const { environment, rows } = waiting;
      if (rows.length === 0) continue;
      waiting.rows = [];
      try {
        await this.settings.write(environment, rows);
      } catch (error) {
        if (isDatabaseUnable(error)) waiting.rows = [...rows, ...waiting.rows];
        else this.log.error({ err: error, environment: environment.id }, `${this.settings.what} could not be written and were dropped`);
      }
    }
  }

  async stop(): Promise<void> {
    if (this.#timer) clearInterval(this.#timer);
    await this.flush();
  }
}
