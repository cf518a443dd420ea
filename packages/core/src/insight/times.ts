/** How many times each person did something. */
import { codeOfName, maskOf } from './mask.js';
import type { QuestionGround, QuestionPeriod, Scan, Wanted } from './question.js';
import { DAY_MS, type Segment } from './segment.js';

export type TimesQuestion = QuestionPeriod & { wanted: Wanted };
/** Those who did it at least once, by number, and how often. */
export type TimesAnswer = { people: Uint32Array; times: Uint32Array };

export class TimesScan implements Scan<TimesAnswer> {
  readonly #times: Uint32Array;

  constructor(
    private readonly question: TimesQuestion,
    private readonly ground: QuestionGround,
  ) {
    this.#times = new Uint32Array(ground.people);
  }

  add(segment: Segment): void {
    const { wanted, from, until } = this.question;
    const code = wanted.event === null ? 0 : codeOfName(segment, wanted.event);
    if (code < 0) return;
    const mask = maskOf(segment, wanted.filter, this.ground.asking);
    const { codes } = segment.name;
    const { day, person, at: times, rows } = segment;
    const isInside = day >= from && day + DAY_MS <= until;
    for (let row = 0; row < rows; row++) {
      if ((code > 0 && codes[row] !== code) || (mask && mask[row] === 0)) continue;
      const at = day + (times[row] as number);
      if (!isInside && (at < from || at >= until)) continue;
      const who = person[row] as number;
      this.#times[who] = (this.#times[who] as number) + 1;
    }
  }

  answer(): TimesAnswer {
    const people = Uint32Array.from(this.#times.keys()).filter((person) => this.#times[person] !== 0);
    return { people, times: people.map((person) => this.#times[person] as number) };
  }
}
