/** Faults on request. `count` is how many messages are still to be hit; absent means all. */
export type Fault = { count?: number } & (
  | { mode: 'none' }
  | { mode: 'throttle'; retryAfterS: number }
  | { mode: 'refuse'; status: number }
  | { mode: 'slow'; delayMs: number }
  | { mode: 'drop' }
  /** The current token becomes invalid. */
  | { mode: 'expire-tokens' }
  /** Messages arrive without a receipt. */
  | { mode: 'lose-receipts' }
);

/** The active fault, used up as messages are hit. */
export class Faults {
  #fault: Fault = { mode: 'none' };

  get current(): Fault {
    return this.#fault;
  }

  set(fault: Fault): void {
    this.#fault = fault;
  }

  /** The fault that hits this message. */
  take(): Fault {
    const fault = this.#fault;
    if (fault.mode === 'none' || fault.count === undefined) return fault;
    if (fault.count <= 0) {
      this.#fault = { mode: 'none' };
      return this.#fault;
    }
    this.#fault = { ...fault, count: fault.count - 1 };
    return fault;
  }
}
