/** How many people were there in the last so many milliseconds of a period. */
import { PeopleSet } from './peopleSet.js';
import type { QuestionGround, Scan } from './question.js';
import type { Segment } from './segment.js';

export type ActiveQuestion = { until: number; windowsMs: readonly number[] };

export class ActiveScan implements Scan<number[]> {
  readonly #sets: PeopleSet[];

  constructor(
    private readonly question: ActiveQuestion,
    ground: QuestionGround,
  ) {
    this.#sets = question.windowsMs.map(() => new PeopleSet(ground.people));
  }

  add(segment: Segment): void {
    const { until, windowsMs } = this.question;
    for (const [i, window] of windowsMs.entries()) {
      if (segment.day + 86_400_000 <= until - window) continue;
      const set = this.#sets[i] as PeopleSet;
      for (let row = 0; row < segment.rows; row++) {
        const at = segment.day + (segment.at[row] as number);
        if (at >= until - window && at < until) set.add(segment.person[row] as number);
      }
    }
  }

  answer(): number[] {
    return this.#sets.map(({ size }) => size);
  }
}
