/** Who is new, and who is there: by step, in all, and by a property of their first event in the period. */
import { type GroupKey, Groups } from './groups.js';
import { type EventFilter, maskOf } from './mask.js';
import { PeopleSet } from './peopleSet.js';
import type { QuestionGround, QuestionPeriod, Scan } from './question.js';
import type { Segment } from './segment.js';
import { stepsByMinute } from './steps.js';

export type ArrivalsQuestion = QuestionPeriod & {
  filter: EventFilter | null;
  steps: readonly number[];
  by: readonly string[];
  top: number;
};
export type ArrivalsAnswer = {
  /** New people in the period, and people there before it. */
  total: number;
  before: number;
  active: number;
  steps: { new: number; active: number }[];
  groups: {
    group: GroupKey;
    total: number;
    steps: number[] /** Start of the step of the group's first person; its steps count from there. */;
    since: number | null;
  }[];
};

const MINUTE_MS = 60_000;

export class ArrivalsScan implements Scan<ArrivalsAnswer> {
  readonly #groups: Groups;
  readonly #seen: PeopleSet;
  readonly #active: PeopleSet;
  readonly #activeIn: (PeopleSet | null)[];
  readonly #activeCounts: number[];
  readonly #new: number[];
  readonly #byGroup: number[][] = [];
  #settledTo = 0;

  constructor(
    private readonly question: ArrivalsQuestion,
    private readonly ground: QuestionGround,
  ) {
    this.#groups = new Groups(question.by, { firstSeen: ground.firstSeen, from: question.from });
    this.#seen = new PeopleSet(ground.people);
    this.#active = new PeopleSet(ground.people);
    this.#activeIn = question.steps.map(() => null);
    this.#activeCounts = question.steps.map(() => 0);
    this.#new = question.steps.map(() => 0);
  }

  add(segment: Segment): void {
    const { filter, steps, from, until } = this.question;
    this.#settle(segment.day);
    const mask = maskOf(segment, filter, this.ground.asking);
    const groups = this.#groups.reader(segment);
    const minutes = stepsByMinute(segment.day, steps, this.question);
    for (let row = 0; row < segment.rows; row++) {
      if (mask && mask[row] === 0) continue;
      const at = segment.day + (segment.at[row] as number);
      const step = minutes[((segment.at[row] as number) / MINUTE_MS) | 0] as number;
      if (step < 0 || at < from || at >= until) continue;
      const person = segment.person[row] as number;
      this.#active.add(person);
      (this.#activeIn[step] ??= new PeopleSet(this.ground.people)).add(person);
      if (this.#seen.add(person)) this.#arrive(person, groups ? groups(row) : 0);
    }
  }

  /** Somebody's first event of the period: they are new when it is their first of all. */
  #arrive(person: number, group: number): void {
    const { steps, from, until } = this.question;
    const first = this.ground.firstSeen[person] as number;
    if (!(first >= from && first < until)) return;
    const step = steps.findLastIndex((start) => start <= first);
    this.#new[step] = (this.#new[step] as number) + 1;
    const byStep = (this.#byGroup[group] ??= steps.map(() => 0));
    byStep[step] = (byStep[step] as number) + 1;
  }

  /** The sets of steps that are over give way to their numbers. */
  #settle(day: number): void {
    const { steps } = this.question;
    for (; this.#settledTo + 1 < steps.length && (steps[this.#settledTo + 1] as number) <= day; this.#settledTo++)
      this.#close(this.#settledTo);
  }

  #close(step: number): void {
    this.#activeCounts[step] = this.#activeIn[step]?.size ?? 0;
    this.#activeIn[step] = null;
  }

  answer(): ArrivalsAnswer {
    for (let step = this.#settledTo; step < this.question.steps.length; step++) this.#close(step);
    const { steps, from, top } = this.question;
    let before = 0;
    for (const first of this.ground.firstSeen) if (first < from) before++;
    return {
      total: this.#new.reduce((sum, count) => sum + count, 0),
      before,
      active: this.#active.size,
      steps: steps.map((_, i) => ({ new: this.#new[i] as number, active: this.#activeCounts[i] as number })),
      groups:
        this.question.by.length === 0
          ? []
          : this.#groups.keys
              .flatMap((group, i) => {
                const counts = this.#byGroup[i];
                if (!counts) return [];
                const total = counts.reduce((sum, count) => sum + count, 0);
                return [{ group, total, steps: counts, since: steps[counts.findIndex((count) => count > 0)] ?? null }];
              })
              .sort((a, b) => b.total - a.total)
              .slice(0, top),
    };
  }
}
