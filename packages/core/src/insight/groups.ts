/** Grouping by properties: a number for each combination of values, the same in every segment. */
import { BUILT_IN, PROPERTY_TYPES } from './event.js';
import { propertyColumn, type Segment } from './segment.js';

/** What stands where an event has no value. */
export const NO_VALUE = null;
export type GroupKey = (string | null)[];
/** Values beyond so many are one group: a property with a value for each event is no grouping. */
export const MOST_GROUPS = 1_000;
export const BEYOND = '…';

/** Grouped by this: whether the person came first in the period of the question. */
export const BY_PERSON = 'person';
export const PERSON_GROUPS = ['first-time', 'returning'] as const;
/** Who was first seen when, and since when somebody counts as new. */
export type Newcomers = { firstSeen: Float64Array; from: number };

/** Whether it stands for all values beyond those that are told apart. */
export const isBeyond = (key: GroupKey): boolean => key.length > 0 && key.every((value) => value === BEYOND);

/** Numbers of groups over all segments. */
export class Groups {
  readonly keys: GroupKey[] = [];
  readonly #numbers = new Map<string, number>();

  constructor(
    readonly by: readonly string[],
    private readonly newcomers?: Newcomers,
  ) {
    if (by.length === 0) this.numberOf([]);
  }

  numberOf(key: GroupKey): number {
    const name = JSON.stringify(key);
    let number = this.#numbers.get(name);
    if (number === undefined && this.keys.length >= MOST_GROUPS) return this.#beyond();
    if (number === undefined) {
      number = this.keys.push(key) - 1;
      this.#numbers.set(name, number);
    }
    return number;
  }

  /** A group that occurs; undefined for one that does not. */
  find(key: GroupKey): number | undefined {
    return isBeyond(key) && this.keys.length > MOST_GROUPS ? MOST_GROUPS : this.#numbers.get(JSON.stringify(key));
  }

  #beyond(): number {
    const { length } = this.keys;
    if (length === MOST_GROUPS) this.keys.push(this.by.map(() => BEYOND));
    return MOST_GROUPS;
  }

  /** Tells the group of a row; null where there is one for all. Only rows that count are asked for. */
  reader(segment: Segment): ((row: number) => number) | null {
    if (this.by.length === 0) return null;
    const columns = this.by.map((name) =>
      name === BY_PERSON && this.newcomers ? arrivalsOf(segment, this.newcomers) : wordsOf(segment, name),
    );
    const [only] = columns;
    return columns.length === 1 && only ? this.#byOne(only) : this.#byMany(columns);
  }

  #byOne({ codes, words }: Words): (row: number) => number {
    const numbers = new Int32Array(words.length + 1).fill(-1);
    return (row) => {
      const code = codes[row] as number;
      let number = numbers[code] as number;
      // Only what occurs becomes a group.
      if (number < 0) number = numbers[code] = this.numberOf([wordAt(words, code)]);
      return number;
    };
  }

  /** Combinations are few, so each is looked up once and then found by its codes. */
  #byMany(columns: readonly Words[]): (row: number) => number {
    const known = new Map<number, number>();
    return (row) => {
      let combination = 0;
      for (const { codes, words } of columns) combination = combination * (words.length + 1) + (codes[row] as number);
      let group = known.get(combination);
      if (group === undefined)
        known.set(combination, (group = this.numberOf(columns.map(({ codes, words }) => wordAt(words, codes[row] as number)))));
      return group;
    };
  }
}

type Words = { codes: ArrayLike<number>; words: readonly string[] };
const wordAt = (words: readonly string[], code: number): string | null => (code === 0 ? NO_VALUE : (words[code - 1] as string));

function arrivalsOf({ person, rows }: Segment, { firstSeen, from }: Newcomers): Words {
  const codes = new Uint8Array(rows);
  for (let row = 0; row < rows; row++) codes[row] = (firstSeen[person[row] as number] as number) >= from ? 1 : 2;
  return { codes, words: PERSON_GROUPS };
}

/** A property as words, whatever its types; numbers and times as they are written. */
function wordsOf(segment: Segment, name: string): Words {
  if (name === 'event') return segment.name;
  const present = PROPERTY_TYPES.flatMap((type) => segment.properties.get(propertyColumn(name, type)) ?? []);
  const [first] = present;
  if (!first) return { codes: new Uint8Array(segment.rows), words: [] };
  if (present.length === 1 && first.kind === 'words') return first;
  const numbers = new Map<string, number>();
  const words: string[] = [];
  const codes = new Uint32Array(segment.rows);
  const numberOf = (word: string): number => {
    let number = numbers.get(word);
    if (number === undefined) numbers.set(word, (number = words.push(word)));
    return number;
  };
  for (const column of present)
    for (let row = 0; row < segment.rows; row++) {
      if (column.kind === 'words') {
        const code = column.codes[row] as number;
        if (code > 0) codes[row] = numberOf(column.words[code - 1] as string);
      } else if (!Number.isNaN(column.values[row] as number)) codes[row] = numberOf(String(column.values[row]));
    }
  return { codes, words };
}

/** The packed columns that a question needs of its groups. */
export const isBuiltIn = (name: string): boolean => (BUILT_IN as readonly string[]).includes(name);
