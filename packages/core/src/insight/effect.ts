/** What people did within some time of a moment of their own: those who opened a message beside those whom it did not reach. */
import { codeOfName, maskOf } from './mask.js';
import { PeopleSet } from './peopleSet.js';
import type { QuestionGround, QuestionPeriod, Scan, Wanted } from './question.js';
import type { Segment } from './segment.js';

/** Each person is in one group. */
export type EffectGroup = { people: Uint32Array /** When each one's time began, milliseconds since 1970. */; at: Float64Array };
export type EffectQuestion = QuestionPeriod & { wanted: Wanted; withinMs: number; groups: readonly EffectGroup[] };
export type EffectAnswer = { people: number; did: number }[];

export class EffectScan implements Scan<EffectAnswer> {
  readonly #group: Int32Array;
  readonly #began: Float64Array;
  readonly #did: PeopleSet[];

  constructor(
    private readonly question: EffectQuestion,
    private readonly ground: QuestionGround,
  ) {
    this.#group = new Int32Array(ground.people).fill(-1);
    this.#began = new Float64Array(ground.people);
    this.#did = question.groups.map(() => new PeopleSet(ground.people));
    for (const [i, { people, at }] of question.groups.entries())
      for (const [n, person] of people.entries()) {
        this.#group[person] = i;
        this.#began[person] = at[n] as number;
      }
  }

  add(segment: Segment): void {
    const { wanted, withinMs } = this.question;
    const code = wanted.event === null ? 0 : codeOfName(segment, wanted.event);
    if (code < 0) return;
    const mask = maskOf(segment, wanted.filter, this.ground.asking);
    const { codes } = segment.name;
    for (let row = 0; row < segment.rows; row++) {
      if ((code > 0 && codes[row] !== code) || (mask && mask[row] === 0)) continue;
      const person = segment.person[row] as number;
      const group = this.#group[person] ?? -1;
      if (group < 0) continue;
      const since = segment.day + (segment.at[row] as number) - (this.#began[person] as number);
      if (since >= 0 && since <= withinMs) this.#did[group]?.add(person);
    }
  }

  answer(): EffectAnswer {
    return this.question.groups.map(({ people }, i) => ({ people: people.length, did: this.#did[i]?.size ?? 0 }));
  }
}
