/**
 * Funnels: how many people get through a list of steps. For each person and step, the latest start is kept from which the steps
 * up to it were done in order; a step counts while the window since that start is open.
 */
import { joined } from './column.js';
import { type CoursePart, FunnelCourse, type FunnelDurations, type FunnelTrend, joinCourses } from './funnelCourse.js';
import { type GroupKey, Groups } from './groups.js';
import { codeOfName, maskOf } from './mask.js';
import { PeopleSet } from './peopleSet.js';
import type { QuestionGround, QuestionPeriod, Scan, Wanted } from './question.js';
import { DAY_MS, type Segment } from './segment.js';
import { VISIT_GAP_MS, VisitBorders } from './visits.js';
import type { FunnelOrder } from './words.js';

export type FunnelQuestion = QuestionPeriod & {
  steps: readonly Wanted[];
  windowMs: number;
  order: FunnelOrder;
  /** What ends an attempt when it comes between the steps. */
  without: readonly Wanted[];
  /** Whether each visit is an attempt of its own. */
  perVisit: boolean;
  /** The value at a person's first step tells their group. */
  by: readonly string[];
  top: number;
  gapMs?: number;
  /** Starts of steps of time, for the trend. */
  trend?: readonly number[];
};
export type FunnelStep = {
  event: string | null;
  people: number;
  /** Share of those at the first step; null where nobody was there. */
  ofFirst: number | null;
  ofPrevious: number | null;
  /** Median of the time since the step before. */
  medianMs: number | null;
};
export type FunnelAnswer = {
  steps: FunnelStep[];
  groups: { group: GroupKey; steps: FunnelStep[] }[];
  /** By when people began, if steps of time were given. */
  trend: FunnelTrend;
  /** From the first step to the last. */
  durations: FunnelDurations;
  /** Who reached each step, by number, ascending. */
  reached: Uint32Array[];
};

/** Of each step, how many reached it, and how long each of them took since the step before. */
type ReachedPart = { people: number[]; durations: Float64Array[] };
/** What a share of the people comes to. */
export type FunnelPart = {
  total: ReachedPart;
  groups: { group: GroupKey; reached: ReachedPart }[];
  course: CoursePart;
  reached: Uint32Array[];
};

type Reaching = { at: number; sincePreviousMs: number | null; sinceFirstMs: number };

/** Attempts in numbers: of each step, how many reached it and how long that took. */
class Reached {
  readonly people: number[];
  readonly durations: number[][];

  constructor(steps: number) {
    this.people = new Array<number>(steps).fill(0);
    this.durations = Array.from({ length: steps }, () => []);
  }

  add(step: number, sincePreviousMs: number | null): void {
    this.people[step] = (this.people[step] as number) + 1;
    if (sincePreviousMs !== null) this.durations[step]?.push(sincePreviousMs);
  }

  get part(): ReachedPart {
    return { people: this.people, durations: this.durations.map((one) => new Float64Array(one)) };
  }
}

function presentSteps(steps: readonly Wanted[], parts: readonly ReachedPart[]): FunnelStep[] {
  const counts = steps.map((_, i) => parts.reduce((sum, { people }) => sum + (people[i] as number), 0));
  const first = counts[0] ?? 0;
  return steps.map(({ event }, i) => {
    const people = counts[i] as number;
    const before = counts[i - 1];
    return {
      event,
      people,
      ofFirst: first === 0 ? null : people / first,
      ofPrevious: i === 0 ? (people === 0 ? null : 1) : before ? people / before : null,
      medianMs: medianOf(
        joined(
          Float64Array,
          parts.map(({ durations }) => durations[i] as Float64Array),
        ),
      ),
    };
  });
}

export function medianOf(values: Float64Array): number | null {
  if (values.length === 0) return null;
  const middle = values.length >> 1;
  const upper = nthOf(values, middle);
  if (values.length % 2 === 1) return upper;
  // Whatever is before the middle now is at most as large.
  let lower = Number.NEGATIVE_INFINITY;
  for (let i = 0; i < middle; i++) lower = Math.max(lower, values[i] as number);
  return (lower + upper) / 2;
}

/** The value that sorting would put there, by Hoare's selection; the values change their places. */
function nthOf(values: Float64Array, n: number): number {
  let [from, to] = [0, values.length - 1];
  while (from < to) {
    const pivot = values[(from + to) >> 1] as number;
    let [low, high] = [from, to];
    while (low <= high) {
      while ((values[low] as number) < pivot) low++;
      while ((values[high] as number) > pivot) high--;
      if (low > high) break;
      const one = values[low] as number;
      values[low++] = values[high] as number;
      values[high--] = one;
    }
    if (n <= high) to = high;
    else if (n >= low) from = low;
    else break;
  }
  return values[n] as number;
}

export class FunnelScan implements Scan<FunnelAnswer> {
  readonly #count: number;
  readonly #groups: Groups;
  readonly #total: Reached;
  readonly #byGroup: Reached[] = [];
  readonly #sets: PeopleSet[];
  /** By person and step, side by side in memory: the latest start that reaches it, and when it did. */
  readonly #attempts: Float64Array;
  /** How many steps the best attempt of a person has reached. */
  readonly #best: Uint8Array;
  readonly #group: Int32Array;
  readonly #course: FunnelCourse;
  readonly #borders: VisitBorders | null;
  /** In any order: what was done and when, by person. */
  readonly #done = new Map<number, [at: number, steps: number][]>();

  constructor(
    private readonly question: FunnelQuestion,
    private readonly ground: QuestionGround,
  ) {
    const { steps, by, perVisit, gapMs = VISIT_GAP_MS } = question;
    this.#count = steps.length;
    this.#groups = new Groups(by, { firstSeen: ground.firstSeen, from: question.from });
    this.#total = new Reached(steps.length);
    this.#sets = steps.map(() => new PeopleSet(ground.people));
    this.#attempts = new Float64Array(ground.people * steps.length * 2).fill(Number.NaN);
    this.#best = new Uint8Array(ground.people);
    this.#group = new Int32Array(ground.people).fill(-1);
    this.#course = new FunnelCourse(ground.people, question.trend ?? []);
    this.#borders = perVisit ? new VisitBorders(ground.people, gapMs) : null;
  }

  add(segment: Segment): void {
    const { steps, without, from, until, order } = this.question;
    const { asking } = this.ground;
    const matches = new StepMatcher(segment, steps, asking);
    const ends = new StepMatcher(segment, without, asking);
    const isStrict = order === 'strict';
    const hasEnds = !ends.isNever;
    const allSteps = (1 << steps.length) - 1;
    if (!isStrict && !this.#borders && matches.isNever && ends.isNever) return;
    const groups = this.#groups.reader(segment);
    if (order === 'ordered' && !hasEnds && !this.#borders) return this.#followInOrder(segment, matches, groups);
    const { at: times, person: people, visit, day, rows } = segment;
    const isInside = day >= from && day + DAY_MS <= until;
    for (let row = 0; row < rows; row++) {
      const matched = matches.at(row);
      const isEnd = hasEnds && ends.at(row) !== 0;
      if (matched === 0 && !isEnd && !isStrict && !this.#borders) continue;
      const at = day + (times[row] as number);
      if (!isInside && (at < from || at >= until)) continue;
      const person = people[row] as number;
      if (this.#borders?.begins(person, at, visit[row] as number)) this.#closeVisit(person);
      if (matched === 0 && !isEnd && !isStrict) continue;
      if (matched & 1 && this.#group[person] === -1) this.#group[person] = groups ? groups(row) : 0;
      if (order === 'any') this.#note(person, at, matched, isEnd);
      else {
        if (isEnd) this.#endAttempt(person);
        // From the last step to the first, so that one event is not two steps.
        for (let left = isStrict ? allSteps : matched, step = 0; left !== 0; left ^= 1 << step) {
          step = 31 - Math.clz32(left);
          if (isStrict) this.#forget(person, step);
          if (matched & (1 << step)) this.#reach(person, at, step);
        }
      }
    }
  }

  /** The usual funnel, in one loop without calls: a time that is handed over would be put on the heap for each row. */
  #followInOrder({ at: times, person: people, day, rows }: Segment, matches: StepMatcher, groups: ((row: number) => number) | null): void {
    const { from, until, windowMs } = this.question;
    const isInside = day >= from && day + DAY_MS <= until;
    const attempts = this.#attempts;
    const best = this.#best;
    const group = this.#group;
    const width = this.#count * 2;
    for (let row = 0; row < rows; row++) {
      const matched = matches.at(row);
      if (matched === 0) continue;
      const at = day + (times[row] as number);
      if (!isInside && (at < from || at >= until)) continue;
      const person = people[row] as number;
      if ((matched & 1) === 1 && group[person] === -1) group[person] = groups === null ? 0 : groups(row);
      // From the last step to the first, so that one event is not two steps.
      for (let left = matched, step = 0; left !== 0; left ^= 1 << step) {
        step = 31 - Math.clz32(left);
        const own = person * width + step * 2;
        const start = step === 0 ? at : (attempts[own - 2] as number);
        if (!(at - start <= windowMs)) continue;
        attempts[own] = start;
        attempts[own + 1] = at;
        // Most get there again and again; the first time alone is counted.
        if (step >= (best[person] as number)) this.#reachFirst(person, step, own);
      }
    }
  }

  #reachFirst(person: number, step: number, own: number): void {
    const at = this.#attempts[own + 1] as number;
    const sincePreviousMs = step === 0 ? null : at - (this.#attempts[own - 1] as number);
    this.#credit(person, step, { at, sincePreviousMs, sinceFirstMs: at - (this.#attempts[own] as number) });
  }

  #endAttempt(person: number): void {
    const base = person * this.#count * 2;
    this.#attempts.fill(Number.NaN, base, base + this.#count * 2);
  }

  /** Strictly, an event continues what the event before it has begun, or nothing. */
  #forget(person: number, step: number): void {
    this.#attempts[(person * this.#count + step) * 2] = Number.NaN;
  }

  #reach(person: number, at: number, step: number): void {
    const attempts = this.#attempts;
    const own = (person * this.#count + step) * 2;
    const start = step === 0 ? at : (attempts[own - 2] as number);
    if (!(at - start <= this.question.windowMs)) return;
    attempts[own] = start;
    attempts[own + 1] = at;
    if (step >= (this.#best[person] as number)) this.#reachFirst(person, step, own);
  }

  /** The first time that a person, or a visit, gets so far. */
  #credit(person: number, step: number, { at, sincePreviousMs, sinceFirstMs }: Reaching): void {
    this.#best[person] = step + 1;
    this.#sets[step]?.add(person);
    if (step === 0) this.#course.begin(person, at);
    if (step === this.#count - 1) this.#course.end(person, sinceFirstMs);
    this.#total.add(step, sincePreviousMs);
    const group = this.#group[person] as number;
    if (this.#groups.by.length > 0) (this.#byGroup[group] ??= new Reached(this.#count)).add(step, sincePreviousMs);
  }

  #note(person: number, at: number, matched: number, isEnd: boolean): void {
    let done = this.#done.get(person);
    if (!done) this.#done.set(person, (done = []));
    if (isEnd) this.#settleAny(person);
    if (matched !== 0) done.push([at, matched]);
  }

  /** In any order, a step counts with all before it in the list when they lie within one window. */
  #settleAny(person: number): void {
    const done = this.#done.get(person) ?? [];
    for (let step = this.#best[person] as number; step < this.#count; step++) {
      const since = windowOf(done, (1 << (step + 1)) - 1, this.question.windowMs);
      if (since === null) break;
      const at = done.find(([, steps]) => (steps & 1) !== 0)?.[0] ?? 0;
      this.#credit(person, step, { at, sincePreviousMs: step === 0 ? null : since, sinceFirstMs: since });
    }
    this.#done.set(person, []);
  }

  #closeVisit(person: number): void {
    if (this.question.order === 'any') this.#settleAny(person);
    this.#endAttempt(person);
    this.#best[person] = 0;
    this.#group[person] = -1;
  }

  /** What the people looked at come to, to be added to that of others. */
  part(): FunnelPart {
    for (const person of this.#done.keys()) this.#settleAny(person);
    return {
      total: this.#total.part,
      groups: this.#groups.keys.flatMap((group, i) => {
        const reached = this.#byGroup[i];
        return reached ? [{ group, reached: reached.part }] : [];
      }),
      course: this.#course.part,
      reached: this.#sets.map((set) => set.toNumbers()),
    };
  }

  answer(): FunnelAnswer {
    return joinFunnels(this.question, [this.part()]);
  }
}

/** Puts together what shares of the people come to. @param parts in the order of their people */
export function joinFunnels({ steps, top }: Pick<FunnelQuestion, 'steps' | 'top'>, parts: readonly FunnelPart[]): FunnelAnswer {
  const groups = new Map<string, { group: GroupKey; reached: ReachedPart[] }>();
  for (const { group, reached } of parts.flatMap((part) => part.groups)) {
    const name = JSON.stringify(group);
    const known = groups.get(name);
    if (known) known.reached.push(reached);
    else groups.set(name, { group, reached: [reached] });
  }
  return {
    steps: presentSteps(
      steps,
      parts.map(({ total }) => total),
    ),
    groups: [...groups.values()]
      .map(({ group, reached }) => ({ group, steps: presentSteps(steps, reached) }))
      .sort((a, b) => (b.steps[0]?.people ?? 0) - (a.steps[0]?.people ?? 0))
      .slice(0, top),
    ...joinCourses(parts.map(({ course }) => course)),
    reached: steps.map((_, i) =>
      joined(
        Uint32Array,
        parts.map(({ reached }) => reached[i] as Uint32Array),
      ),
    ),
  };
}

/** Which of some events a row is, as bits. Those without a filter are told by the name alone. */
class StepMatcher {
  readonly #byName: Uint32Array;
  readonly #codes: ArrayLike<number>;
  readonly #filtered: { code: number; bit: number; mask: Uint8Array }[] = [];
  readonly isNever: boolean;

  constructor(segment: Segment, wanted: readonly Wanted[], asking: QuestionGround['asking']) {
    this.#codes = segment.name.codes;
    this.#byName = new Uint32Array(segment.name.words.length + 1);
    for (const [step, { event, filter }] of wanted.entries()) {
      const code = event === null ? 0 : codeOfName(segment, event);
      if (code < 0) continue;
      const mask = maskOf(segment, filter, asking);
      if (mask) this.#filtered.push({ code, bit: 1 << step, mask });
      else if (code > 0) this.#byName[code] = (this.#byName[code] as number) | (1 << step);
      else for (let name = 1; name < this.#byName.length; name++) this.#byName[name] = (this.#byName[name] as number) | (1 << step);
    }
    this.isNever = this.#filtered.length === 0 && this.#byName.every((bits) => bits === 0);
  }

  at(row: number): number {
    const code = this.#codes[row] as number;
    let bits = this.#byName[code] as number;
    for (const one of this.#filtered) if ((one.code === 0 || one.code === code) && one.mask[row] === 1) bits |= one.bit;
    return bits;
  }
}

/**
 * The length of the shortest stretch in which all of the wanted steps were done, within a window; null for none.
 * One event counts for one step only.
 */
function windowOf(done: readonly [number, number][], wanted: number, windowMs: number): number | null {
  let shortest: number | null = null;
  for (let from = 0; from < done.length; from++) {
    const [start, first] = done[from] as [number, number];
    for (let to = from, masks: number[] = []; to < done.length; to++) {
      const [at, mask] = done[to] as [number, number];
      if (at - start > windowMs) break;
      masks = [...masks, mask & wanted];
      if ((first & wanted) !== 0 && canCover(masks, wanted)) {
        shortest = Math.min(shortest ?? Number.POSITIVE_INFINITY, at - start);
        break;
      }
    }
  }
  return shortest;
}

/** Whether each wanted step can have an event of its own: a matching, found by trying. */
function canCover(masks: readonly number[], wanted: number): boolean {
  if (wanted === 0) return true;
  const step = wanted & -wanted;
  return masks.some((mask, i) => (mask & step) !== 0 && canCover([...masks.slice(0, i), ...masks.slice(i + 1)], wanted & ~step));
}
