/**
 * The events of one day (UTC) as columns, in the order of person and then time. Persons are numbers; those that became one
 * with another are replaced when a segment is opened, and their rows put in order again.
 */
import {
  type Column,
  type Codes,
  codesFor,
  copyFrom,
  OWN_MEMORY,
  type NumberColumn,
  readColumn,
  type WordColumn,
  wordColumn,
  writeColumn,
} from './column.js';
import { type InsightEvent, type PropertyType, typeOfValue } from './event.js';
import { IntReader, IntWriter } from './ints.js';

export const DAY_MS = 86_400_000;
/** A person whose events do not count any more. */
export const ERASED = 0xffffffff;

/** The columns that every segment has; own and built-in properties come as `p:<type>:<name>`. */
export const BASE_COLUMNS = ['person', 'at', 'name', 'visit'] as const;
export const propertyColumn = (name: string, type: PropertyType): string => `p:${type}:${name}`;
/** @returns null for a base column */
export function readPropertyColumn(column: string): { name: string; type: PropertyType } | null {
  const found = /^p:(\w+):(.*)$/s.exec(column);
  return found ? { type: found[1] as PropertyType, name: found[2] as string } : null;
}

/** Packed columns of a day by name, each to be compressed. */
export type PackedDay = { rows: number; columns: Map<string, Uint8Array> };

export type Segment = {
  /** Start of the day, milliseconds since 1970. */
  day: number;
  rows: number;
  person: Uint32Array;
  /** Milliseconds since the day began. */
  at: Uint32Array;
  name: WordColumn;
  /** A number that is the same for events of one visit that the app named; 0 for none. */
  visit: Uint32Array;
  /** By name and type, see {@link propertyColumn}. */
  properties: Map<string, Column>;
};

/** Packs the events of one day. @param events in the order of their arrival, which decides between those of one millisecond */
export function packDay(day: number, events: readonly InsightEvent[]): PackedDay {
  const order = events.map((_, i) => i).sort((a, b) => compareEvents(events[a] as InsightEvent, events[b] as InsightEvent) || a - b);
  const sorted = order.map((i) => events[i] as InsightEvent);
  const columns = new Map<string, Uint8Array>([
    ['person', deltas(sorted.map(({ person }) => person))],
    ['at', atColumn(sorted, day)],
    ['name', writeColumn(wordColumn(sorted.map(({ name }) => name)))],
    ['visit', visits(sorted)],
  ]);
  for (const [name, column] of propertyColumns(sorted)) columns.set(name, writeColumn(column));
  return { rows: sorted.length, columns };
}

const compareEvents = (a: InsightEvent, b: InsightEvent): number => a.person - b.person || a.at - b.at;

function deltas(values: readonly number[]): Uint8Array {
  const writer = new IntWriter();
  let before = 0;
  for (const value of values) {
    writer.write(value - before);
    before = value;
  }
  return writer.bytes;
}

/** Within a person, what has passed since the event before. */
function atColumn(sorted: readonly InsightEvent[], day: number): Uint8Array {
  const writer = new IntWriter();
  let before: InsightEvent | undefined;
  for (const event of sorted) {
    writer.write(before?.person === event.person ? event.at - before.at : event.at - day);
    before = event;
  }
  return writer.bytes;
}

/** FNV-1a, 32 bits; never 0, which stands for no visit. */
export function visitNumber(visit: string): number {
  let hash = 0x811c9dc5;
  for (let i = 0; i < visit.length; i++) hash = Math.imul(hash ^ visit.charCodeAt(i), 0x01000193) >>> 0;
  return hash || 1;
}

function visits(sorted: readonly InsightEvent[]): Uint8Array {
  const numbers = Uint32Array.from(sorted, ({ visit }) => visit);
  return new Uint8Array(numbers.buffer);
}

function propertyColumns(sorted: readonly InsightEvent[]): Map<string, Column> {
  const words = new Map<string, (string | null)[]>();
  const numbers = new Map<string, Float64Array>();
  for (const [row, { properties }] of sorted.entries())
    for (const [name, value] of Object.entries(properties)) {
      const type = typeOfValue(value);
      const column = propertyColumn(name, type);
      if (type === 'number' || type === 'time') {
        let values = numbers.get(column);
        if (!values) numbers.set(column, (values = new Float64Array(sorted.length).fill(Number.NaN)));
        values[row] = type === 'time' ? Date.parse(value as string) : (value as number);
      } else {
        let values = words.get(column);
        if (!values) words.set(column, (values = new Array<string | null>(sorted.length).fill(null)));
        values[row] = type === 'list' ? JSON.stringify(value) : String(value);
      }
    }
  return new Map<string, Column>([
    ...[...words].map(([name, values]) => [name, wordColumn(values)] as const),
    ...[...numbers].map(([name, values]) => [name, { kind: 'numbers', values } satisfies NumberColumn] as const),
  ]);
}

/** Reads the columns that each question needs: who, when and what. */
export function readDay(day: number, rows: number, columns: ReadonlyMap<string, Uint8Array>, memory = OWN_MEMORY): Segment {
  const column = (name: string) => columns.get(name) as Uint8Array;
  const reader = new IntReader(column('person'));
  const person = new Uint32Array(memory(rows * 4));
  let before = 0;
  for (let row = 0; row < rows; row++) person[row] = before += reader.read();
  const times = new IntReader(column('at'));
  const at = new Uint32Array(memory(rows * 4));
  for (let row = 0; row < rows; row++) {
    const passed = times.read();
    at[row] = row > 0 && person[row] === person[row - 1] ? (at[row - 1] as number) + passed : passed;
  }
  const segment: Segment = {
    day,
    rows,
    person,
    at,
    name: readColumn(column('name'), memory) as WordColumn,
    visit: NO_VISITS,
    properties: new Map(),
  };
  for (const [name, bytes] of columns) addColumn(segment, name, bytes, memory);
  return segment;
}

/** Whether a packed column of people holds one of these. */
export function holdsAny(bytes: Uint8Array, rows: number, people: ReadonlySet<number>): boolean {
  const reader = new IntReader(bytes);
  let person = 0;
  for (let row = 0; row < rows; row++) {
    person += reader.read();
    if (people.has(person)) return true;
  }
  return false;
}

/** Stands where visits were not read. */
const NO_VISITS = new Uint32Array(0);

/** Adds a column to a segment that is open. */
export function addColumn(segment: Segment, name: string, bytes: Uint8Array, memory = OWN_MEMORY): void {
  if (name === 'visit') segment.visit = new Uint32Array(copyFrom(bytes, 0, memory).buffer);
  else if (readPropertyColumn(name)) segment.properties.set(name, readColumn(bytes, memory));
}

/**
 * Opens a packed day.
 * @param alias who a person has become, by number; {@link ERASED} drops the rows
 */
export const openDay = (day: number, rows: number, columns: ReadonlyMap<string, Uint8Array>, alias: Uint32Array): Segment =>
  withAliases(readDay(day, rows, columns), alias);

/** Two segments of one day as one. @param second what came later */
export function mergeSegments(first: Segment, second: Segment): Segment {
  if (first.rows === 0 || second.rows === 0) return first.rows === 0 ? second : first;
  const order = mergedOrder(first, second);
  const ints = (a: Uint32Array, b: Uint32Array): Uint32Array => {
    if (a.length === 0 && b.length === 0) return a;
    return Uint32Array.from(order, (row) => (row < first.rows ? a[row] : b[row - first.rows]) ?? 0);
  };
  const names = [...new Set([...first.properties.keys(), ...second.properties.keys()])];
  return {
    day: first.day,
    rows: order.length,
    person: ints(first.person, second.person),
    at: ints(first.at, second.at),
    visit: ints(first.visit, second.visit),
    name: mergedWords(first.name, second.name, first.rows, order),
    properties: new Map(
      names.map((name) => [name, mergedColumn(first.properties.get(name), second.properties.get(name), first.rows, order)]),
    ),
  };
}

function mergedOrder(first: Segment, second: Segment): Uint32Array {
  const order = new Uint32Array(first.rows + second.rows);
  let [a, b] = [0, 0];
  for (let row = 0; row < order.length; row++) {
    const takesFirst =
      b >= second.rows ||
      (a < first.rows &&
        ((first.person[a] as number) - (second.person[b] as number) || (first.at[a] as number) - (second.at[b] as number)) <= 0);
    order[row] = takesFirst ? a++ : first.rows + b++;
  }
  return order;
}

function mergedWords(first: WordColumn | undefined, second: WordColumn | undefined, rows: number, order: Uint32Array): WordColumn {
  const numbers = new Map<string, number>();
  const renumber = (words: readonly string[] = []) =>
    Uint32Array.from([0, ...words.map((word) => numbers.get(word) ?? (numbers.set(word, numbers.size + 1), numbers.size))]);
  const [ofFirst, ofSecond] = [renumber(first?.words), renumber(second?.words)];
  const codes = codesFor(order.length, numbers.size);
  for (const [row, from] of order.entries())
    codes[row] = from < rows ? (ofFirst[first?.codes[from] ?? 0] as number) : (ofSecond[second?.codes[from - rows] ?? 0] as number);
  return { kind: 'words', words: [...numbers.keys()], codes };
}

function mergedColumn(first: Column | undefined, second: Column | undefined, rows: number, order: Uint32Array): Column {
  if ((first ?? second)?.kind === 'words')
    return mergedWords(first as WordColumn | undefined, second as WordColumn | undefined, rows, order);
  const [a, b] = [first as NumberColumn | undefined, second as NumberColumn | undefined];
  return {
    kind: 'numbers',
    values: Float64Array.from(order, (row) => (row < rows ? a?.values[row] : b?.values[row - rows]) ?? Number.NaN),
  };
}

/** Replaces persons, drops what is erased, and restores the order where that changed it. */
export function withAliases(segment: Segment, alias: Uint32Array): Segment {
  const { person, rows } = segment;
  const nowOf = (stored: number): number => (stored < alias.length ? (alias[stored] as number) : stored);
  let changed = 0;
  while (changed < rows && nowOf(person[changed] as number) === person[changed]) changed++;
  if (changed === rows) return segment;
  let isOrdered = true;
  const now = person.slice();
  for (let row = changed; row < rows; row++) {
    const become = nowOf(person[row] as number);
    now[row] = become;
    if (become === ERASED || (row > 0 && become < (now[row - 1] as number))) isOrdered = false;
  }
  // Two who became one can stand side by side in the wrong order of time.
  const order = Uint32Array.from({ length: rows }, (_, row) => row).filter((row) => now[row] !== ERASED);
  const { at } = segment;
  if (!isOrdered || !inOrderOfTime(now, at))
    order.sort((a, b) => (now[a] as number) - (now[b] as number) || (at[a] as number) - (at[b] as number) || a - b);
  return pick({ ...segment, person: now }, order);
}

function inOrderOfTime(person: Uint32Array, at: Uint32Array): boolean {
  for (let row = 1; row < at.length; row++)
    if (person[row] === person[row - 1] && (at[row] as number) < (at[row - 1] as number)) return false;
  return true;
}

/** The rows named, in the order given. */
function pick(segment: Segment, order: Uint32Array): Segment {
  const ints = (values: Uint32Array) => Uint32Array.from(order, (row) => values[row] as number);
  const words = ({ words: known, codes }: WordColumn): WordColumn => {
    const picked: Codes = codesFor(order.length, known.length);
    for (let row = 0; row < order.length; row++) picked[row] = codes[order[row] as number] as number;
    return { kind: 'words', words: known, codes: picked };
  };
  const any = (column: Column): Column =>
    column.kind === 'words' ? words(column) : { kind: 'numbers', values: Float64Array.from(order, (row) => column.values[row] as number) };
  return {
    ...segment,
    rows: order.length,
    person: ints(segment.person),
    at: ints(segment.at),
    visit: segment.visit.length === 0 ? segment.visit : ints(segment.visit),
    name: words(segment.name),
    properties: new Map([...segment.properties].map(([name, column]) => [name, any(column)])),
  };
}

/** The events of a segment again, with their columns as properties: to pack a day anew. */
export function eventsOf(segment: Segment): InsightEvent[] {
  return Array.from({ length: segment.rows }, (_, row) => ({
    person: segment.person[row] as number,
    at: segment.day + (segment.at[row] as number),
    name: segment.name.words[(segment.name.codes[row] as number) - 1] as string,
    visit: segment.visit[row] ?? 0,
    properties: propertiesAt(segment, row),
  }));
}

export function propertiesAt(segment: Segment, row: number): Record<string, InsightEvent['properties'][string]> {
  const found: Record<string, InsightEvent['properties'][string]> = {};
  for (const [column, values] of segment.properties) {
    const { name, type } = readPropertyColumn(column) as { name: string; type: PropertyType };
    if (values.kind === 'numbers') {
      const value = values.values[row] as number;
      if (!Number.isNaN(value)) found[name] = type === 'time' ? new Date(value).toISOString() : value;
      continue;
    }
    const code = values.codes[row] as number;
    if (code === 0) continue;
    const word = values.words[code - 1] as string;
    found[name] = type === 'list' ? (JSON.parse(word) as string[]) : type === 'boolean' ? word === 'true' : word;
  }
  return found;
}
