/**
 * Visits: stretches of use. A visit that the app named lasts from its first event to its last; otherwise one ends when nothing
 * came for a while.
 */
import { addValue, type Histogram, quantiles } from '../histogram.js';
import { type GroupKey, Groups } from './groups.js';
import { maskOf, type EventFilter } from './mask.js';
import type { QuestionGround, QuestionPeriod, Scan } from './question.js';
import type { Segment } from './segment.js';

export const VISIT_GAP_MS = 30 * 60_000;

/** Where visits begin: remembers for each person the event before, over the days. */
export class VisitBorders {
  readonly #last: Float64Array;
  readonly #named: Uint32Array;

  constructor(
    people: number,
    private readonly gapMs = VISIT_GAP_MS,
  ) {
    this.#last = new Float64Array(people).fill(Number.NEGATIVE_INFINITY);
    this.#named = new Uint32Array(people);
  }

  /** @returns whether the event begins a visit */
  begins(person: number, at: number, named: number): boolean {
    const last = this.#last[person] as number;
    const before = this.#named[person] as number;
    this.#last[person] = at;
    this.#named[person] = named;
    if (last === Number.NEGATIVE_INFINITY) return true;
    // Two named events are of one visit exactly when they have one name; with one that has none, silence decides.
    return named !== 0 && before !== 0 ? named !== before : at - last > this.gapMs;
  }
}

export type VisitsQuestion = QuestionPeriod & {
  filter: EventFilter | null;
  steps: readonly number[];
  by: readonly string[];
  top: number;
  gapMs: number;
};
export type VisitFigures = {
  visits: number;
  people: number;
  /** Null without a visit. */
  perPerson: number | null;
  meanMs: number | null;
  medianMs: number | null;
  p95Ms: number | null;
  /** Events in a visit. */
  meanEvents: number | null;
};
export type VisitsAnswer = {
  total: VisitFigures;
  steps: { visits: number; meanMs: number | null }[];
  /** Visits by length: up to so many milliseconds each. */
  lengths: { upToMs: number | null; visits: number }[];
  groups: { group: GroupKey; figures: VisitFigures }[];
};

const LENGTHS_MS = [10_000, 60_000, 180_000, 600_000, 1_800_000, 3_600_000];

class VisitSums {
  visits = 0;
  events = 0;
  lengthMs = 0;
  readonly lengths: Histogram = new Map();
  readonly people = new Set<number>();

  add(person: number, lengthMs: number, events: number): void {
    this.visits++;
    this.events += events;
    this.lengthMs += lengthMs;
    this.people.add(person);
    addValue(this.lengths, lengthMs);
  }

  figures(): VisitFigures {
    const { visits, people, lengthMs, events } = this;
    const [medianMs = null, p95Ms = null] = quantiles(this.lengths, [0.5, 0.95]);
    const mean = (sum: number) => (visits === 0 ? null : sum / visits);
    return {
      visits,
      people: people.size,
      perPerson: people.size === 0 ? null : visits / people.size,
      meanMs: mean(lengthMs),
      medianMs,
      p95Ms,
      meanEvents: mean(events),
    };
  }
}

/** A visit belongs to the step, and has the properties, of its first event. */
export class VisitsScan implements Scan<VisitsAnswer> {
  readonly #borders: VisitBorders;
  readonly #groups: Groups;
  readonly #start: Float64Array;
  readonly #end: Float64Array;
  readonly #events: Uint32Array;
  readonly #group: Uint32Array;
  readonly #total = new VisitSums();
  readonly #byGroup: VisitSums[] = [];
  readonly #steps: { visits: number; lengthMs: number }[];
  readonly #lengths = new Array<number>(LENGTHS_MS.length + 1).fill(0);

  constructor(
    private readonly question: VisitsQuestion,
    private readonly ground: QuestionGround,
  ) {
    const { people } = ground;
    this.#borders = new VisitBorders(people, question.gapMs);
    this.#groups = new Groups(question.by, { firstSeen: ground.firstSeen, from: question.from });
    this.#start = new Float64Array(people).fill(Number.NaN);
    this.#end = new Float64Array(people);
    this.#events = new Uint32Array(people);
    this.#group = new Uint32Array(people);
    this.#steps = question.steps.map(() => ({ visits: 0, lengthMs: 0 }));
  }

  add(segment: Segment): void {
    const mask = maskOf(segment, this.question.filter, this.ground.asking);
    const groups = this.#groups.reader(segment);
    const { from, until } = this.question;
    for (let row = 0; row < segment.rows; row++) {
      if (mask && mask[row] === 0) continue;
      const at = segment.day + (segment.at[row] as number);
      if (at < from || at >= until) continue;
      const person = segment.person[row] as number;
      if (this.#borders.begins(person, at, segment.visit[row] as number)) {
        this.#close(person);
        this.#start[person] = at;
        this.#events[person] = 0;
        this.#group[person] = groups ? groups(row) : 0;
      }
      this.#end[person] = at;
      this.#events[person] = (this.#events[person] as number) + 1;
    }
  }

  #close(person: number): void {
    const start = this.#start[person] as number;
    if (Number.isNaN(start)) return;
    const lengthMs = (this.#end[person] as number) - start;
    const events = this.#events[person] as number;
    this.#total.add(person, lengthMs, events);
    if (this.#groups.by.length > 0) (this.#byGroup[this.#group[person] as number] ??= new VisitSums()).add(person, lengthMs, events);
    const step = this.#steps[this.question.steps.findLastIndex((begin) => begin <= start)];
    if (step) {
      step.visits++;
      step.lengthMs += lengthMs;
    }
    const bucket = LENGTHS_MS.findIndex((most) => lengthMs <= most);
    const place = bucket < 0 ? LENGTHS_MS.length : bucket;
    this.#lengths[place] = (this.#lengths[place] as number) + 1;
  }

  answer(): VisitsAnswer {
    for (let person = 0; person < this.#start.length; person++) {
      this.#close(person);
      this.#start[person] = Number.NaN;
    }
    return {
      total: this.#total.figures(),
      steps: this.#steps.map(({ visits, lengthMs }) => ({ visits, meanMs: visits === 0 ? null : lengthMs / visits })),
      lengths: this.#lengths.map((visits, i) => ({ upToMs: LENGTHS_MS[i] ?? null, visits })),
      groups: this.#byGroup
        .map((sums, group) => ({ group: this.#groups.keys[group] as GroupKey, figures: sums.figures() }))
        .filter(({ figures }) => figures.visits > 0)
        .sort((a, b) => b.figures.visits - a.figures.visits)
        .slice(0, this.question.top),
    };
  }
}
