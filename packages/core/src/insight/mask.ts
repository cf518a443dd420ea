/** Filters over the columns of a segment: which rows count. */
import { type Condition, pathsOf } from '../filter/condition.js';
import { type Asking, compileEvaluator, type Evaluator } from '../filter/evaluate.js';
import type { JsonObject } from '../json.js';
import type { Column, WordColumn } from './column.js';
import { PROPERTY_TYPES, type PropertyType } from './event.js';
import { propertyColumn, type Segment } from './segment.js';

/** A condition with the columns that it reads. */
export type EventFilter = { condition: Condition; types: ReadonlyMap<string, PropertyType> };

/** The names of the properties a condition reads. */
export const namesIn = (condition: Condition): string[] => [...new Set(pathsOf(condition).map(([name]) => name as string))];
/** The packed columns that a property may stand in: an app may have changed its type. */
export const columnsOfProperty = (name: string): string[] => PROPERTY_TYPES.map((type) => propertyColumn(name, type));

/** Rows that a filter holds for: 1, others 0; null where there is no filter. */
export type Mask = Uint8Array | null;

/** @param asking time of the question */
export function maskOf(segment: Segment, filter: EventFilter | null, asking: Asking): Mask {
  if (!filter) return null;
  const mask = new Uint8Array(segment.rows).fill(1);
  const parts = filter.condition.is === 'all' ? filter.condition.parts : [filter.condition];
  for (const part of parts) applyPart(segment, part, filter.types, asking, mask);
  return mask;
}

function applyPart(segment: Segment, part: Condition, types: EventFilter['types'], asking: Asking, mask: Uint8Array): void {
  const names = namesIn(part);
  const evaluate = compileEvaluator(part);
  const [name] = names;
  const column = name === undefined ? undefined : columnFor(segment, name, types);
  if (names.length === 0 || (names.length === 1 && column === undefined)) {
    if (evaluate({}, asking) !== true) mask.fill(0);
    return;
  }
  if (names.length === 1 && column?.kind === 'words')
    return applyWords(column, types.get(name as string), name as string, evaluate, asking, mask);
  const columns = names.map((one) => ({ name: one, type: types.get(one), column: columnFor(segment, one, types) }));
  for (let row = 0; row < mask.length; row++) {
    if (mask[row] === 0) continue;
    const record: JsonObject = {};
    for (const one of columns) record[one.name] = one.column ? valueAt(one.column, one.type, row) : null;
    if (evaluate(record, asking) !== true) mask[row] = 0;
  }
}

/** Each word is judged once. */
function applyWords(
  { words, codes }: WordColumn,
  type: PropertyType | undefined,
  name: string,
  evaluate: Evaluator,
  asking: Asking,
  mask: Uint8Array,
): void {
  const holds = new Uint8Array(words.length + 1);
  holds[0] = evaluate({ [name]: null }, asking) === true ? 1 : 0;
  for (const [i, word] of words.entries()) holds[i + 1] = evaluate({ [name]: valueOfWord(word, type) }, asking) === true ? 1 : 0;
  for (let row = 0; row < mask.length; row++) mask[row] = (mask[row] as number) & (holds[codes[row] as number] as number);
}

const columnFor = (segment: Segment, name: string, types: EventFilter['types']): Column | undefined =>
  name === 'event' ? segment.name : segment.properties.get(propertyColumn(name, types.get(name) ?? 'text'));

const valueOfWord = (word: string, type: PropertyType | undefined) =>
  type === 'list' ? (JSON.parse(word) as string[]) : type === 'boolean' ? word === 'true' : word;

function valueAt(column: Column, type: PropertyType | undefined, row: number) {
  if (column.kind === 'numbers') {
    const value = column.values[row] as number;
    return Number.isNaN(value) ? null : type === 'time' ? new Date(value).toISOString() : value;
  }
  const code = column.codes[row] as number;
  return code === 0 ? null : valueOfWord(column.words[code - 1] as string, type);
}

/** The code of an event's name in a segment; -1 where it does not occur. */
export const codeOfName = (segment: Segment, name: string): number => {
  const at = segment.name.words.indexOf(name);
  return at < 0 ? -1 : at + 1;
};

/** Used again by each call: a fresh array for each day would cost more than the search. */
let found = new Uint32Array(0);

/**
 * The rows of an event that a mask lets through, in order; valid until the next call. Which rows those are is hard to predict,
 * so there is no branch: each row is noted, and the next one overwrites it unless it counts.
 * @param code 0 for every event
 */
export function rowsOf({ name: { codes }, rows }: Segment, code: number, mask: Mask): Uint32Array {
  if (found.length < rows) found = new Uint32Array(rows);
  // No code has a bit that is not in here.
  const bits = code === 0 ? 0 : 0xffffffff;
  const into = found;
  let count = 0;
  if (mask === null)
    for (let row = 0; row < rows; row++) {
      into[count] = row;
      count += isZero(((codes[row] as number) ^ code) & bits);
    }
  else
    for (let row = 0; row < rows; row++) {
      into[count] = row;
      count += isZero(((codes[row] as number) ^ code) & bits) & (mask[row] as number);
    }
  return into.subarray(0, count);
}

/** 1 or 0, without a branch. @param code below 2 ** 31 */
const isZero = (code: number): number => (code - 1) >>> 31;
