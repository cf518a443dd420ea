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

  answer(): { series: CountSeries[]; groups: number } {
    const order = this.#groups.keys
      .flatMap((_, group) => (this.#groups.by.length === 0 || this.#sizeOf(group) > 0 ? [group] : []))
      .sort((a, b) => this.#sizeOf(b) - this.#sizeOf(a) || a - b);
    const isGrouped = this.#groups.by.length > 0;
    const top = isGrouped ? order.slice(0, this.question.top) : order;
    const rest = isGrouped ? order.slice(this.question.top) : [];
    const series: CountSeries[] = top.map((group) => this.#seriesOf(this.#groups.keys[group] as GroupKey, [group]));
    if (rest.length > 0) series.push(this.#seriesOf('others', rest));
    return { series, groups: isGrouped ? order.length : 1 };
  }

  #sizeOf(group: number): number {
    return this.#totals[group]?.count ?? 0;
  }

  #seriesOf(group: CountSeries['group'], members: readonly number[]): CountSeries {
    const value = (cells: (Cell | undefined)[]) => this.#valueOf(cells.filter((cell) => cell !== undefined));
    return {
      group,
      total: value(members.map((member) => this.#totals[member])),
      steps: this.question.steps.map((_, step) => value(members.map((member) => this.#cells[member]?.[step]))),
    };
  }

  #valueOf(cells: Cell[]): number | null {
    const count = cells.reduce((sum, cell) => sum + cell.count, 0);
    const sum = () => cells.reduce((all, cell) => all + cell.sum, 0);
    switch (this.question.measure.of) {
      case 'count':
        return count;
      case 'people':
        return peopleIn(cells);
      case 'perPerson':
        return count === 0 ? null : count / peopleIn(cells);
      case 'sum':
        return sum();
      case 'mean':
        return count === 0 ? null : sum() / count;
      case 'p50':
        return percentile(cells, 0.5);
      case 'p95':
        return percentile(cells, 0.95);
      case 'p99':
        return percentile(cells, 0.99);
    }
  }
}

function peopleIn(cells: Cell[]): number {
  const [only] = cells;
  if (cells.length === 1 && only) return only.people?.size ?? only.settled;
  const all = new PeopleSet();
  for (const { people } of cells) for (const person of people ?? []) all.add(person);
  return all.size;
}

function percentile(cells: Cell[], share: number): number | null {
  const merged: Histogram = new Map();
  for (const { histogram } of cells) for (const [bucket, count] of histogram) merged.set(bucket, (merged.get(bucket) ?? 0) + count);
  const [value] = quantiles(merged, [share]);
  return value === null || value === undefined ? null : value / SCALE;
}
