/** Those who stopped at a step of a funnel beside those who went on: with which properties they were there, and what came next. */
import { Groups } from './groups.js';
import { codeOfName, maskOf } from './mask.js';
import { PeopleSet } from './peopleSet.js';
import type { QuestionGround, QuestionPeriod, Scan, Wanted } from './question.js';
import type { Segment } from './segment.js';
import { type Counted, type Difference, differences } from './difference.js';

export type WhyQuestion = QuestionPeriod & {
  /** The step they reached. */
  step: Wanted;
  /** Numbers of people. */
  stopped: Uint32Array;
  went: Uint32Array;
  properties: readonly string[];
  /** What follows within this time of their last such event. */
  windowMs: number;
};
export type WhyAnswer = {
  differences: Difference[];
  next: { event: string | null; people: number }[];
  /** Of those who stopped: when they were at the step last. */
  last: { people: Uint32Array; at: Float64Array };
};

const MOST_DIFFERENCES = 20;
const MOST_NEXT = 10;

export class WhyScan implements Scan<WhyAnswer> {
  readonly #stopped: PeopleSet;
  readonly #went: PeopleSet;
  readonly #seen: PeopleSet;
  readonly #groups: { name: string; groups: Groups; stopped: number[]; went: number[] }[];
  /** Of those who stopped: when they were at the step last, and what came after. */
  readonly #last = new Map<number, { at: number; next: string | null }>();

  constructor(
    private readonly question: WhyQuestion,
    private readonly ground: QuestionGround,
  ) {
    const setOf = (people: Uint32Array) => {
      const set = new PeopleSet(ground.people);
      for (const person of people) set.add(person);
      return set;
    };
    this.#stopped = setOf(question.stopped);
    this.#went = setOf(question.went);
    this.#seen = new PeopleSet(ground.people);
    this.#groups = question.properties.map((name) => ({ name, groups: new Groups([name]), stopped: [], went: [] }));
  }

  add(segment: Segment): void {
    const { step, from, until } = this.question;
    const code = step.event === null ? 0 : codeOfName(segment, step.event);
    const mask = code < 0 ? null : maskOf(segment, step.filter, this.ground.asking);
    const rows = this.#groups.map(({ groups }) => groups.reader(segment));
    const { codes, words } = segment.name;
    for (let row = 0; row < segment.rows; row++) {
      const at = segment.day + (segment.at[row] as number);
      if (at < from || at >= until) continue;
      const person = segment.person[row] as number;
      const hasStopped = this.#stopped.has(person);
      const isThere = code >= 0 && (code === 0 || codes[row] === code) && (!mask || mask[row] === 1);
      if (isThere && (hasStopped || this.#went.has(person)) && this.#seen.add(person))
        for (const [i, one] of this.#groups.entries()) {
          const group = (rows[i] as (row: number) => number)(row);
          const counts = hasStopped ? one.stopped : one.went;
          counts[group] = (counts[group] ?? 0) + 1;
        }
      if (hasStopped) this.#follow(person, at, isThere, words[(codes[row] as number) - 1] as string);
    }
  }

  #follow(person: number, at: number, isThere: boolean, name: string): void {
    if (isThere) {
      this.#last.set(person, { at, next: null });
      return;
    }
    const last = this.#last.get(person);
    if (last && last.next === null && at - last.at <= this.question.windowMs) last.next = name;
  }

  answer(): WhyAnswer {
    const { stopped, went } = this.question;
    const counted = this.#groups.flatMap(({ name, groups, stopped: ofStopped, went: ofWent }) =>
      groups.keys.map(([value = null], i): Counted => ({ property: name, value, stopped: ofStopped[i] ?? 0, went: ofWent[i] ?? 0 })),
    );
    const next = new Map<string | null, number>();
    for (const { next: name } of this.#last.values()) next.set(name, (next.get(name) ?? 0) + 1);
    return {
      differences: differences(counted, stopped.length, went.length).slice(0, MOST_DIFFERENCES),
      next: [...next]
        .map(([event, people]) => ({ event, people }))
        .sort((a, b) => b.people - a.people)
        .slice(0, MOST_NEXT),
      last: { people: Uint32Array.from(this.#last.keys()), at: Float64Array.from(this.#last.values(), ({ at }) => at) },
    };
  }
}
