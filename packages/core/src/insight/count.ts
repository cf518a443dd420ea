/** How often something happened, how many people did it, and what a number of it comes to; by step of time and by group. */
import { addValue, type Histogram, quantiles } from '../histogram.js';
import { type GroupKey, Groups, MOST_GROUPS } from './groups.js';
import { codeOfName, type Mask, maskOf, rowsOf } from './mask.js';
import { BitBudget, PeopleSet } from './peopleSet.js';
import type { QuestionGround, QuestionPeriod, Scan, Wanted } from './question.js';
import { DAY_MS, propertyColumn, type Segment } from './segment.js';
import { stepsByMinute } from './steps.js';

export const MEASURES = ['count', 'people', 'perPerson'] as const;
export const NUMBER_MEASURES = ['sum', 'mean', 'p50', 'p95', 'p99'] as const;
export type CountMeasure = { of: (typeof MEASURES)[number] } | { of: (typeof NUMBER_MEASURES)[number]; property: string };

export type CountQuestion = QuestionPeriod & {
  wanted: Wanted;
  /** Starts of the steps. */
  steps: readonly number[];
  by: readonly string[];
  measure: CountMeasure;
  /** The groups with the most; the others together. */
  top: number;
};
export type CountSeries = { group: GroupKey | 'others'; total: number | null; steps: (number | null)[] };

/** What is counted of one group in one step, or over the whole period; of shares of the people, it adds up. */
type Counted = { count: number; sum: number; people: number; histogram: Histogram };
type CountedSeries = { total: Counted; steps: Counted[] };
/** Of the groups with the most, in their order, and of the others together. */
export type CountPart = { top: CountedSeries[]; others: CountedSeries };
/** How often each group occurs. */
export type GroupSize = [group: GroupKey, count: number];

const MINUTE_MS = 60_000;

/** Sums of one group in one step, or over the whole period. */
class Cell {
  count = 0;
  sum = 0;
  readonly histogram: Histogram = new Map();
  people: PeopleSet | null = null;
  /** Kept where the set is given up. */
  settled = 0;
}

/** Percentiles of a property: its values times a thousand, so that small ones are told apart. */
const SCALE = 1000;

export class CountScan implements Scan<{ series: CountSeries[]; groups: number }> {
  readonly #groups: Groups;
  readonly #cells: Cell[][] = [];
  readonly #totals: Cell[] = [];
  readonly #needsPeople: boolean;
  readonly #needsHistogram: boolean;
  readonly #budget = new BitBudget();
  #settledTo = 0;

  constructor(
    private readonly question: CountQuestion,
    private readonly ground: QuestionGround,
  ) {
    this.#groups = new Groups(question.by, { firstSeen: ground.firstSeen, from: question.from });
    const { of } = question.measure;
    this.#needsPeople = of === 'people' || of === 'perPerson';
    this.#needsHistogram = of === 'p50' || of === 'p95' || of === 'p99';
  }

  add(segment: Segment): void {
    const { wanted, steps, measure, from, until } = this.question;
    this.#settle(segment.day);
    const code = wanted.event === null ? 0 : codeOfName(segment, wanted.event);
    if (code < 0) return;
    const mask = maskOf(segment, wanted.filter, this.ground.asking);
    const groups = this.#groups.reader(segment);
    const minutes = stepsByMinute(segment.day, steps, this.question);
    const column = 'property' in measure ? segment.properties.get(propertyColumn(measure.property, 'number')) : undefined;
    if ('property' in measure && column?.kind !== 'numbers') return;
    const values = column?.kind === 'numbers' ? column.values : null;
    // A day inside one step of the period needs no look at the time of each row.
    const isInside = segment.day >= from && segment.day + DAY_MS <= until;
    const only = isInside && minutes[0] === minutes.at(-1) ? (minutes[0] as number) : -1;
    if (only >= 0 && values === null) return this.#countDay(segment, { code, mask, groups, step: only });
    const { at, person, day } = segment;
    const rows = rowsOf(segment, code, mask);
    for (let i = 0; i < rows.length; i++) {
      const row = rows[i] as number;
      let step = only;
      if (step < 0) {
        step = minutes[((at[row] as number) / MINUTE_MS) | 0] as number;
        const time = day + (at[row] as number);
        if (step < 0 || time < from || time >= until) continue;
      }
      const value = values ? (values[row] as number) : 0;
      if (Number.isNaN(value)) continue;
      this.#count(groups ? groups(row) : 0, step, person[row] as number, value);
    }
  }

  /** A whole day in one step: its people are added to those of the period all at once. */
  #countDay(
    segment: Segment,
    { code, mask, groups, step }: { code: number; mask: Mask; groups: ((row: number) => number) | null; step: number },
  ): void {
    const { person } = segment;
    const counts = new Uint32Array(MOST_GROUPS + 1);
    const sets: PeopleSet[] = [];
    const rows = rowsOf(segment, code, mask);
    for (let i = 0; i < rows.length; i++) {
      const row = rows[i] as number;
      const group = groups === null ? 0 : groups(row);
      counts[group] = (counts[group] as number) + 1;
      if (this.#needsPeople) (sets[group] ??= this.#setOf(this.#cellOf(group, step))).mark(person[row] as number);
    }
    for (const [group, count] of counts.entries()) {
      if (count === 0) continue;
      this.#cellOf(group, step).count += count;
      this.#totalOf(group).count += count;
      if (sets[group]) this.#setOf(this.#totalOf(group)).addAll(sets[group]);
    }
  }

  #count(group: number, step: number, person: number, value: number): void {
    const cell = this.#cellOf(group, step);
    const total = this.#totalOf(group);
    cell.count++;
    total.count++;
    if (this.#needsPeople) {
      if (this.#setOf(cell).add(person)) this.#setOf(total).add(person);
      return;
    }
    cell.sum += value;
    total.sum += value;
    if (!this.#needsHistogram) return;
    addValue(cell.histogram, value * SCALE);
    addValue(total.histogram, value * SCALE);
  }

  #setOf(cell: Cell): PeopleSet {
    return (cell.people ??= new PeopleSet(this.ground.people, this.#budget));
  }

  #cellOf(group: number, step: number): Cell {
    const cells = (this.#cells[group] ??= []);
    return (cells[step] ??= new Cell());
  }

  #totalOf(group: number): Cell {
    return (this.#totals[group] ??= new Cell());
  }

  /** Steps that ended before a day keep the number of their people alone; a set each would not fit. */
  #settle(day: number): void {
    const { steps } = this.question;
    // With groups that are put together at the end, the people of "others" are only known from the sets.
    if (!this.#needsPeople || this.#groups.by.length > 0) return;
    for (; this.#settledTo + 1 < steps.length && (steps[this.#settledTo + 1] as number) <= day; this.#settledTo++)
      for (const cells of this.#cells) {
        const cell = cells?.[this.#settledTo];
        if (!cell?.people) continue;
        cell.settled = cell.people.size;
        cell.people.release();
        cell.people = null;
      }
  }

  /** The groups that occur, and how often each does. */
  sizes(): GroupSize[] {
    const isGrouped = this.#groups.by.length > 0;
    return this.#groups.keys.flatMap((key, group): GroupSize[] => {
      const count = this.#totals[group]?.count ?? 0;
      return isGrouped && count === 0 ? [] : [[key, count]];
    });
  }

  /** What was counted, to be added to that of other people. @param top the groups that are shown one by one */
  part(top: readonly GroupKey[]): CountPart {
    const shown = top.map((key) => this.#groups.find(key));
    const numbers = new Set(shown);
    const rest = this.#groups.keys.flatMap((_, group) => (numbers.has(group) ? [] : [group]));
    return { top: shown.map((group) => this.#countedOf(group === undefined ? [] : [group])), others: this.#countedOf(rest) };
  }

  answer(): { series: CountSeries[]; groups: number } {
    const top = topGroups(this.question, [this.sizes()]);
    return joinCounts(this.question, top, [this.part(top.keys)]);
  }

  #countedOf(groups: readonly number[]): CountedSeries {
    const counted = (cells: (Cell | undefined)[]) => countedIn(cells.filter((cell) => cell !== undefined));
    return {
      total: counted(groups.map((group) => this.#totals[group])),
      steps: this.question.steps.map((_, step) => counted(groups.map((group) => this.#cells[group]?.[step]))),
    };
  }
}

/** The groups with the most, by shares of the people. @returns also how many groups there are, and whether some are "others" */
export function topGroups(
  { top, by }: Pick<CountQuestion, 'top' | 'by'>,
  shares: readonly GroupSize[][],
): { keys: GroupKey[]; groups: number; hasOthers: boolean } {
  const all = new Map<string, { key: GroupKey; count: number }>();
  for (const [key, count] of shares.flat()) {
    const name = JSON.stringify(key);
    const known = all.get(name);
    if (known) known.count += count;
    else all.set(name, { key, count });
  }
  const order = [...all.values()].sort((a, b) => b.count - a.count);
  const keys = (by.length > 0 ? order.slice(0, top) : order).map(({ key }) => key);
  return { keys, groups: by.length > 0 ? order.length : 1, hasOthers: keys.length < order.length };
}

/** Puts together what was counted for shares of the people. */
export function joinCounts(
  { measure }: Pick<CountQuestion, 'measure'>,
  { keys, groups, hasOthers }: ReturnType<typeof topGroups>,
  parts: readonly CountPart[],
): { series: CountSeries[]; groups: number } {
  const joined = (group: CountSeries['group'], series: CountedSeries[]): CountSeries => ({
    group,
    total: measured(
      measure,
      series.map(({ total }) => total),
    ),
    steps: (series[0]?.steps ?? []).map((_, step) =>
      measured(
        measure,
        series.map(({ steps }) => steps[step] as Counted),
      ),
    ),
  });
  const series = keys.map((key, i) =>
    joined(
      key,
      parts.map(({ top }) => top[i] as CountedSeries),
    ),
  );
  if (hasOthers)
    series.push(
      joined(
        'others',
        parts.map(({ others }) => others),
      ),
    );
  return { series, groups };
}

function measured({ of }: CountMeasure, parts: readonly Counted[]): number | null {
  const total = (member: 'count' | 'sum' | 'people') => parts.reduce((all, part) => all + part[member], 0);
  switch (of) {
    case 'count':
    case 'people':
    case 'sum':
      return total(of);
    case 'perPerson':
      return total('count') === 0 ? null : total('count') / total('people');
    case 'mean':
      return total('count') === 0 ? null : total('sum') / total('count');
    case 'p50':
      return percentile(parts, 0.5);
    case 'p95':
      return percentile(parts, 0.95);
    case 'p99':
      return percentile(parts, 0.99);
  }
}

function countedIn(cells: readonly Cell[]): Counted {
  return {
    count: cells.reduce((all, cell) => all + cell.count, 0),
    sum: cells.reduce((all, cell) => all + cell.sum, 0),
    people: peopleIn(cells),
    histogram: cells.length === 1 && cells[0] ? cells[0].histogram : joinedHistogram(cells),
  };
}

function peopleIn(cells: readonly Cell[]): number {
  const [only] = cells;
  if (cells.length === 1 && only) return only.people?.size ?? only.settled;
  if (cells.every(({ people }) => people === null)) return 0;
  const all = new PeopleSet();
  for (const { people } of cells) if (people) all.addAll(people);
  return all.size;
}

function joinedHistogram(parts: readonly { histogram: Histogram }[]): Histogram {
  const joined: Histogram = new Map();
  for (const { histogram } of parts) for (const [bucket, count] of histogram) joined.set(bucket, (joined.get(bucket) ?? 0) + count);
  return joined;
}

function percentile(parts: readonly Counted[], share: number): number | null {
  const [value] = quantiles(joinedHistogram(parts), [share]);
  return value === null || value === undefined ? null : value / SCALE;
}
