/** Segments for several threads: in memory that they all see, and by shares of the people, whose answers add up. */
import { type Column, SHARED_MEMORY } from './column.js';
import type { Segment } from './segment.js';

/** People by number, from one up to another. */
export type PeopleShare = { from: number; until: number };

type Ints = Uint8Array | Uint16Array | Uint32Array | Float64Array;

/** The same numbers in memory that every thread sees. */
export function inSharedMemory<Numbers extends Ints>(numbers: Numbers): Numbers {
  if (numbers.buffer instanceof SharedArrayBuffer || numbers.length === 0) return numbers;
  // A Node.js Buffer is bytes, too, and is no kind of its own here.
  const Kind = (numbers.BYTES_PER_ELEMENT === 1 ? Uint8Array : numbers.constructor) as new (buffer: ArrayBufferLike) => Numbers;
  const copy = new Kind(SHARED_MEMORY(numbers.byteLength));
  copy.set(numbers as never);
  return copy;
}

/** The same segment, with its rows in memory that every thread sees. */
export function shareSegment(segment: Segment): Segment {
  const words = <Words extends Column>(column: Words): Words =>
    column.kind === 'words' ? { ...column, codes: inSharedMemory(column.codes) } : { ...column, values: inSharedMemory(column.values) };
  return {
    ...segment,
    person: inSharedMemory(segment.person),
    at: inSharedMemory(segment.at),
    visit: inSharedMemory(segment.visit),
    name: words(segment.name),
    properties: new Map([...segment.properties].map(([name, column]) => [name, words(column)])),
  };
}

/** How much memory the rows of a segment take, in bytes. */
export function bytesOfSegment({ person, at, visit, name, properties }: Segment): number {
  const ofColumn = (column: Column) => (column.kind === 'words' ? column.codes : column.values).byteLength;
  const own = person.byteLength + at.byteLength + visit.byteLength + ofColumn(name);
  return [...properties.values()].reduce((sum, column) => sum + ofColumn(column), own);
}

/** The rows of some of the people: views of the same memory, since rows are in the order of people. */
export function rowsOfShare(segment: Segment, { from, until }: PeopleShare): Segment {
  const [start, end] = [firstRowFrom(segment.person, from), firstRowFrom(segment.person, until)];
  if (start === 0 && end === segment.rows) return segment;
  const part = <Numbers extends Ints>(numbers: Numbers): Numbers => numbers.subarray(start, end) as Numbers;
  const column = <Any extends Column>(one: Any): Any =>
    one.kind === 'words' ? { ...one, codes: part(one.codes) } : { ...one, values: part(one.values) };
  return {
    day: segment.day,
    rows: end - start,
    person: part(segment.person),
    at: part(segment.at),
    visit: part(segment.visit),
    name: column(segment.name),
    properties: new Map([...segment.properties].map(([name, one]) => [name, column(one)])),
  };
}

/** The first row of a person, or of the next that there is. @param people ascending */
function firstRowFrom(people: Uint32Array, person: number): number {
  let [low, high] = [0, people.length];
  while (low < high) {
    const middle = (low + high) >>> 1;
    if ((people[middle] as number) < person) low = middle + 1;
    else high = middle;
  }
  return low;
}

/**
 * Shares of the people with about as many rows each.
 * @param known days that are open, whose middle tells; none: people count alike
 */
export function sharesOf(people: number, count: number, known: readonly Segment[]): PeopleShare[] {
  const days = known.filter(({ rows }) => rows > 0);
  const cuts = Array.from({ length: count - 1 }, (_, i) => {
    const share = (i + 1) / count;
    if (days.length === 0) return Math.floor(people * share);
    const sum = days.reduce((all, { person, rows }) => all + (person[Math.floor(rows * share)] as number), 0);
    return Math.floor(sum / days.length);
  });
  const borders = [0, ...cuts, 0xffffffff];
  return Array.from({ length: count }, (_, i) => ({ from: borders[i] as number, until: borders[i + 1] as number }));
}
