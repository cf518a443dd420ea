/** The least number of responses that are evaluated together. */
const LEAST_LOOKED_AT = 16;
/** Rounds between two measurements of the latency with little in flight. */
const FLIGHTS = 200;
/** Below this, latency is noise. */
const LEAST_MS = 0.5;
const WIDEN_BELOW = 2;
const NARROW_ABOVE = 3;

/**
 * How many messages to have in flight at a time: as few as keep the network busy. What is in flight when a process is killed
 * may reach its device twice, so more than that buys nothing.
 *
 * After TCP Vegas (Brakmo and Peterson, 1995): while responses take about as long as the fastest ones, the network is not
 * the bottleneck, and the width may grow; when they take several times as long, messages only queue, here or there. The
 * least latency is measured again from time to time with little in flight, as BBR does (Cardwell and others, 2016): with a
 * standing queue, every response looks slow.
 */
export class FlightWidth {
  #width: number;
  #quickest = Number.POSITIVE_INFINITY;
  #sum = 0;
  #answers = 0;
  #flights = 0;
  /** The width to return to after the least latency is measured again, and the number of responses still from before. */
  #measuring: { back: number; old: number } | null = null;

  /** @param least what is never gone below @param most what is never gone beyond */
  constructor(
    private readonly least: number,
    private readonly most: number,
  ) {
    this.#width = least;
  }

  get width(): number {
    return this.#width;
  }

  /** Records the latency of one response, in milliseconds; the width changes once each round. */
  note(ms: number): void {
    if (this.#measuring && this.#measuring.old > 0) {
      this.#measuring.old--;
      return;
    }
    this.#quickest = Math.min(this.#quickest, ms);
    this.#sum += ms;
    if (++this.#answers < Math.max(LEAST_LOOKED_AT, this.#width)) return;
    if (this.#measuring) {
      this.#width = this.#measuring.back;
      this.#measuring = null;
    } else this.#follow(this.#sum / this.#answers);
    this.#sum = 0;
    this.#answers = 0;
    if (++this.#flights % FLIGHTS === 0) this.#measureAnew();
  }

  #follow(mean: number): void {
    const quickest = Math.max(LEAST_MS, this.#quickest);
    if (mean < WIDEN_BELOW * quickest) this.#width = Math.min(this.most, Math.ceil(this.#width * 1.5));
    else if (mean > NARROW_ABOVE * quickest) this.#width = Math.max(this.least, Math.floor(this.#width * 0.75));
  }

  #measureAnew(): void {
    this.#measuring = { back: this.#width, old: this.#width };
    this.#width = this.least;
    this.#quickest = Number.POSITIVE_INFINITY;
  }
}
