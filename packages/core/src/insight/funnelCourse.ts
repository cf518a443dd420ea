/** How a funnel fares over time, and how long people take from its first step to its last. */
export type FunnelTrend = { people: number /** Those who got through all steps in the end. */; through: number }[];
/** People who took at most so long; null: longer than all others. */
export type FunnelDurations = { upToMs: number | null; people: number }[];

const [SECOND, MINUTE, HOUR, DAY] = [1_000, 60_000, 3_600_000, 86_400_000];
const BOUNDS = [10 * SECOND, 30 * SECOND, MINUTE, 2 * MINUTE, 5 * MINUTE, 10 * MINUTE, 30 * MINUTE, HOUR, 6 * HOUR, DAY, 7 * DAY];

/** What adds up over shares of the people. */
export type CoursePart = { trend: FunnelTrend; durations: number[] };

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

  get part(): CoursePart {
    return { trend: this.trend, durations: this.#durations };
  }
}

export function joinCourses(parts: readonly CoursePart[]): { trend: FunnelTrend; durations: FunnelDurations } {
  const sum = (numberOf: (part: CoursePart) => number) => parts.reduce((all, part) => all + numberOf(part), 0);
  const trend = (parts[0]?.trend ?? []).map((_, i) => ({
    people: sum((part) => part.trend[i]?.people ?? 0),
    through: sum((part) => part.trend[i]?.through ?? 0),
  }));
  const slots = [...BOUNDS, null].map((upToMs, i) => ({ upToMs, people: sum(({ durations }) => durations[i] ?? 0) }));
  // From the shortest that occurs to the longest.
  const first = slots.findIndex(({ people }) => people > 0);
  return { trend, durations: first < 0 ? [] : slots.slice(first, slots.findLastIndex(({ people }) => people > 0) + 1) };
}
