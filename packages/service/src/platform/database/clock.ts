/** The clock of the main database server: what instances do together goes by it, since their own clocks may differ. */
import type { Statements } from './connection.js';

export class DatabaseClock {
  #aheadMs = 0;

  constructor(
    private readonly system: Pick<Statements, 'rows'>,
    private readonly now: () => number,
  ) {}

  /** Compares the clocks; half of the round trip counts. */
  async compare(): Promise<void> {
    const before = this.now();
    const [row] = await this.system.rows<{ ms: number }>("SELECT TIMESTAMPDIFF(MICROSECOND, '1970-01-01', UTC_TIMESTAMP(3)) / 1000 AS ms");
    const after = this.now();
    this.#aheadMs = Math.round(Number(row?.ms) - (before + after) / 2);
  }

  /** Milliseconds since 1970 by the database's clock. */
  read(): number {
    return this.now() + this.#aheadMs;
  }
}
