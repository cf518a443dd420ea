/** Who comes back: people by when they came first, and how many of them were there again in each step after. */
import { type GroupKey, Groups } from './groups.js';
import { codeOfName, maskOf } from './mask.js';
import type { QuestionGround, QuestionPeriod, Scan, Wanted } from './question.js';
import type { Segment } from './segment.js';
import { stepsByMinute } from './steps.js';

export type ReturnsQuestion = QuestionPeriod & {
  /** Starts of the steps: days, weeks or months. */
  steps: readonly number[];
  /** What makes somebody part of a cohort; null for their very first use. */
  first: Wanted | null;
  again: Wanted;
  /** Whether somebody counts in every step up to their last, rather than only in those in which they were there. */
  orLater: boolean;
  /** The value at a person's first time tells their group. */
  by: readonly string[];
  top: number;
};
export type Cohort = { at: number; people: number /** From the cohort itself. */; returned: number[] };
export type ReturnsAnswer = { cohorts: Cohort[]; groups: { group: GroupKey; people: number; curve: (number | null)[] }[] };

const MINUTE_MS = 60_000;
const WORD = 32;

export class ReturnsScan implements Scan<ReturnsAnswer> {
  /** The step of each person's first time; -1 for none yet. */
  readonly #first: Int32Array;
  /** A bit for each step in which a person was there again. */
  readonly #there: Uint32Array;
  readonly #words: number;
  readonly #groups: Groups;
  readonly #group: Int32Array;

  constructor(
    private readonly question: ReturnsQuestion,
    private readonly ground: QuestionGround,
  ) {
    this.#first = new Int32Array(ground.people).fill(-1);
    this.#words = Math.ceil(question.steps.length / WORD) || 1;
    this.#there = new Uint32Array(ground.people * this.#words);
    this.#groups = new Groups(question.by, { firstSeen: ground.firstSeen, from: question.from });
    this.#group = new Int32Array(ground.people).fill(-1);
    if (question.first === null) this.#takeFirstUses();
  }

  #takeFirstUses(): void {
    const { steps, from, until } = this.question;
    for (let person = 0; person < this.#first.length; person++) {
      const at = this.ground.firstSeen[person] as number;
      if (at >= from && at < until) this.#first[person] = steps.findLastIndex((start) => start <= at);
    }
  }

  add(segment: Segment): void {
    const { first, again, steps, from, until } = this.question;
    const { asking } = this.ground;
    const minutes = stepsByMinute(segment.day, steps, this.question);
    const firstCode = first === null ? -1 : first.event === null ? 0 : codeOfName(segment, first.event);
    const againCode = again.event === null ? 0 : codeOfName(segment, again.event);
    const firstMask = first && firstCode >= 0 ? maskOf(segment, first.filter, asking) : null;
    const againMask = againCode >= 0 ? maskOf(segment, again.filter, asking) : null;
    const { codes } = segment.name;
    const groups = this.#groups.reader(segment);
    for (let row = 0; row < segment.rows; row++) {
      const at = segment.day + (segment.at[row] as number);
      const step = minutes[((segment.at[row] as number) / MINUTE_MS) | 0] as number;
      if (step < 0 || at < from || at >= until) continue;
      const person = segment.person[row] as number;
      if (
        this.#first[person] === -1 &&
        firstCode >= 0 &&
        (firstCode === 0 || codes[row] === firstCode) &&
        (!firstMask || firstMask[row] === 1)
      )
        this.#first[person] = step;
      // Of somebody whose first use counts, that is their first row.
      if (groups && this.#group[person] === -1 && (this.#first[person] as number) >= 0) this.#group[person] = groups(row);
      if (againCode >= 0 && (againCode === 0 || codes[row] === againCode) && (!againMask || againMask[row] === 1)) {
        const word = person * this.#words + ((step / WORD) | 0);
        this.#there[word] = (this.#there[word] as number) | (1 << (step % WORD));
      }
    }
  }

  #wasThere(person: number, step: number): boolean {
    return (((this.#there[person * this.#words + ((step / WORD) | 0)] as number) >>> (step % WORD)) & 1) === 1;
  }

  answer(): ReturnsAnswer {
    const all = this.#emptyCohorts();
    const byGroup: Cohort[][] = [];
    for (let person = 0; person < this.#first.length; person++) {
      if ((this.#first[person] as number) < 0) continue;
      this.#addTo(all, person);
      const group = this.#group[person] as number;
      if (group >= 0) this.#addTo((byGroup[group] ??= this.#emptyCohorts()), person);
    }
    return { cohorts: all, groups: this.#largest(byGroup) };
  }

  #emptyCohorts(): Cohort[] {
    const { steps } = this.question;
    return steps.map((at, i): Cohort => ({ at, people: 0, returned: new Array<number>(steps.length - i).fill(0) }));
  }

  #addTo(cohorts: Cohort[], person: number): void {
    const { steps, orLater } = this.question;
    const first = this.#first[person] as number;
    const cohort = cohorts[first];
    if (!cohort) return;
    cohort.people++;
    cohort.returned[0] = (cohort.returned[0] as number) + 1;
    let last = 0;
    for (let later = 1; first + later < steps.length; later++) {
      if (!this.#wasThere(person, first + later)) continue;
      last = later;
      if (!orLater) cohort.returned[later] = (cohort.returned[later] as number) + 1;
    }
    if (orLater) for (let later = 1; later <= last; later++) cohort.returned[later] = (cohort.returned[later] as number) + 1;
  }

  #largest(byGroup: Cohort[][]): ReturnsAnswer['groups'] {
    if (this.#groups.by.length === 0) return [];
    return this.#groups.keys
      .flatMap((group, i) => {
        const cohorts = byGroup[i];
        return cohorts ? [{ group, people: cohorts.reduce((sum, { people }) => sum + people, 0), curve: returnCurve(cohorts) }] : [];
      })
      .sort((a, b) => b.people - a.people)
      .slice(0, this.question.top);
  }
}

/**
 * The share of people who were there again after so many steps, over all cohorts. The last step of each cohort is not over and
 * does not count.
 */
export function returnCurve(cohorts: readonly Pick<Cohort, 'people' | 'returned'>[]): (number | null)[] {
  const length = Math.max(0, ...cohorts.map(({ returned }) => returned.length - 1));
  return Array.from({ length }, (_, later) => {
    const those = cohorts.filter(({ people, returned }) => people > 0 && returned.length > later + 1);
    const people = those.reduce((sum, one) => sum + one.people, 0);
    return people === 0 ? null : those.reduce((sum, { returned }) => sum + (returned[later] ?? 0), 0) / people;
  });
}
