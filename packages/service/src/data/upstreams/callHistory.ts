/** How the latest calls of an upstream went, on this instance. */
type Ended = { at: number; failed: boolean; cached: boolean; ms: number };

const WINDOW_MS = 600_000;
const MOST = 5_000;
/** Forgotten at once, so that not every call moves all that are kept. */
const SLICE = 1_000;

export class CallHistory {
  readonly #ended: Ended[] = [];

  note(ended: Ended): void {
    this.#ended.push(ended);
    if (this.#ended.length > MOST) this.#ended.splice(0, SLICE);
  }

  /** Counts of the last ten minutes; durations in milliseconds. */
  summary(now: number): { calls: number; failed: number; cached: number; meanMs: number | null } {
    const calls = this.#ended.filter(({ at }) => at >= now - WINDOW_MS);
    const mean = calls.reduce((sum, { ms }) => sum + ms, 0) / calls.length;
    return {
      calls: calls.length,
      failed: calls.filter(({ failed }) => failed).length,
      cached: calls.filter(({ cached }) => cached).length,
      meanMs: calls.length > 0 ? Math.round(mean * 100) / 100 : null,
    };
  }
}
