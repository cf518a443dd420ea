/** How a funnel fares over time, and how long people take from its first step to its last. */
export type FunnelTrend = { people: number /** Those who got through all steps in the end. */; through: number }[];
/** People who took at most so long; null: longer than all others. */
export type FunnelDurations = { upToMs: number | null; people: number }[];

const [SECOND, MINUTE, HOUR, DAY] = [1_000, 60_000, 3_600_000, 86_400_000];
const BOUNDS = [10 * SECOND, 30 * SECOND, MINUTE, 2 * MINUTE, 5 * MINUTE, 10 * MINUTE, 30 * MINUTE, HOUR, 6 * HOUR, DAY, 7 * DAY];

export class FunnelCourse {
  readonly trend: FunnelTrend;
  /** The step of time in which each person began; -1 for none yet. */
  readonly #began: Int32Array;
  readonly #durations = new Array<number>(BOUNDS.length + 1).fill(0);

  /** @param starts of the steps of time, ascending */
  constructor(
    people: number,
    private readonly starts: readonly number[],
  ) {
    this.trend = starts.map(() => ({ people: 0, through: 0 }));
    this.#began = new Int32Array(people).fill(-1);
  }

  begin(person: number, at: number): void {
    const step = this.starts.findLastIndex((start) => start <= at);
    this.#began[person] = step;
    const point = this.trend[step];
    if (point) point.people++;
  }

  end(person: number, tookMs: number): void {
    const point = this.trend[this.#began[person] as number];
    if (point) point.through++;
    const bound = BOUNDS.findIndex((upTo) => tookMs <= upTo);
    const slot = bound < 0 ? BOUNDS.length : bound;
    this.#durations[slot] = (this.#durations[slot] as number) + 1;
  }

  /** From the shortest that occurs to the longest. */
  get durations(): FunnelDurations {
    const all = this.#durations.map((people, i) => ({ upToMs: BOUNDS[i] ?? null, people }));
    const last = all.findLastIndex(({ people }) => people > 0);
    return all.slice(
      Math.max(
        0,
        all.findIndex(({ people }) => people > 0),
      ),
      last + 1,
    );
  }
}
