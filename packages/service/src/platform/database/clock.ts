/** The clock of the main database server: what instances do together goes by it, since their own clocks may differ. */
import type { Statements } from './connection.js';
import { TIME_SQL } from './time.js';

/** Less is noise of the comparison; machines whose time is set by the network differ by less. */
const TOLERATED_MS = 500;

export class DatabaseClock {
  #aheadMs = 0;

  /**
   * @param own the clock of this machine
   * @param onOff told when this machine's clock begins to be off, or stops
   */
  constructor(
    private readonly system: Pick<Statements, 'rows'>,
    private readonly own: () => number,
    private readonly onOff: (behindMs: number) => void = () => undefined,
  ) {}

  /** Compares the clocks; half of the round trip counts. */
  async compare(): Promise<void> {
    const before = this.own();
    const [row] = await this.system.rows<{ ms: number }>(TIME_SQL);
    const after = this.own();
    const wasOff = this.isOff;
    this.#aheadMs = Math.round(Number(row?.ms) - (before + after) / 2);
    if (this.isOff !== wasOff) this.onOff(this.#aheadMs);
  }

  /** How far this machine's clock is behind the database's, in milliseconds; 0 where they agree. */
  get behindMs(): number {
    return this.isOff ? this.#aheadMs : 0;
  }

  get isOff(): boolean {
    return Math.abs(this.#aheadMs) > TOLERATED_MS;
  }

  /** Milliseconds since 1970 by the database's clock. */
  read(): number {
    return this.own() + this.#aheadMs;
  }

  /** The time of all that the service does: of this machine, or of the database where that is off. */
  now(): number {
    return this.isOff ? this.read() : this.own();
  }
}
