/** Everything that one person did, oldest first: for whoever asks what is kept of them. */
import type { InsightEvent } from './event.js';
import type { QuestionPeriod, Scan } from './question.js';
import { propertiesAt, type Segment } from './segment.js';

export type OfPersonQuestion = QuestionPeriod & { person: number; most: number };

export class OfPersonScan implements Scan<InsightEvent[]> {
  readonly #events: InsightEvent[] = [];

  constructor(private readonly question: OfPersonQuestion) {}

  add(segment: Segment): void {
    const { person, most } = this.question;
    for (let row = 0; row < segment.rows && this.#events.length < most; row++) {
      if (segment.person[row] !== person) continue;
      this.#events.push({
        person,
        at: segment.day + (segment.at[row] as number),
        name: segment.name.words[(segment.name.codes[row] as number) - 1] as string,
        visit: 0,
        properties: propertiesAt(segment, row),
      });
    }
  }

  answer(): InsightEvent[] {
    return this.#events;
  }
}
