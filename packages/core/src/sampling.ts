/** Which of many calls are kept whole. Counts are kept of all of them; this only bounds what is stored of single ones. */

export const SAMPLING = {
  /** Ordinary calls kept each minute before only a share is. */
  ordinary: 1_200,
  /** The same for each problem, and for slow calls. */
  each: 300,
  /** The share beyond: one in so many. */
  oneIn: 20,
  /** From here on a call is a slow one, whatever its route. */
  slowUs: 1_000_000,
} as const;

const MINUTE_MS = 60_000;

export class Sampler {
  #minute = 0;
  readonly #seen = new Map<string, number>();

  /**
   * Decides about one call.
   * @param now milliseconds since 1970
   * @param problem its problem, or null
   * @returns 0 when it is not kept; otherwise for how many calls it stands: 1, or {@link SAMPLING}.oneIn
   */
  take(now: number, problem: string | null, durationUs: number): number {
    const minute = Math.floor(now / MINUTE_MS);
    // A call that came in a minute earlier and ends only now counts with those of now.
    if (minute > this.#minute) {
      this.#minute = minute;
      this.#seen.clear();
    }
    const kind = problem ?? (durationUs >= SAMPLING.slowUs ? 'slow' : '');
    const seen = (this.#seen.get(kind) ?? 0) + 1;
    this.#seen.set(kind, seen);
    const most = kind === '' ? SAMPLING.ordinary : SAMPLING.each;
    if (seen <= most) return 1;
    return (seen - most) % SAMPLING.oneIn === 0 ? SAMPLING.oneIn : 0;
  }
}
