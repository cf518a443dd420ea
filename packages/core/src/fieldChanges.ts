/**
 * Changes of a record that depend on what stands there: numbers that are added, and items of lists that are put in or taken out.
 * They stand beside the fields of a change, under names that no field can have.
 */
import type { Fields, FieldProblem } from './schema.js';
import { isPlainObject, type Json, type JsonObject, own } from './json.js';

export const FIELD_CHANGES = { add: '_add', put: '_put', drop: '_drop' } as const;
const NAMES: ReadonlySet<string> = new Set(Object.values(FIELD_CHANGES));

export type FieldChanges = {
  /** By field: what is added; a missing value counts as 0. */
  add: ReadonlyMap<string, number>;
  /** By list field: items that are in it afterwards, each once. */
  put: ReadonlyMap<string, readonly Json[]>;
  /** By list field: items that are not in it afterwards. */
  drop: ReadonlyMap<string, readonly Json[]>;
};

/** Whether a change depends on what stands in the record. */
export const hasFieldChanges = (change: JsonObject): boolean => Object.keys(change).some((name) => NAMES.has(name));

/** Whether it is nothing but sums. */
export const isOnlySums = (change: JsonObject): boolean => Object.keys(change).join() === FIELD_CHANGES.add;

const isList = (value: unknown): value is Json[] => Array.isArray(value) && value.length > 0 && value.length <= 1_000;

/**
 * Separates such changes from the fields of a change.
 * @returns `changes` null where there are none; what is wrong in `problems`, with paths in the change
 */
export function readFieldChanges(change: JsonObject): { plain: JsonObject; changes: FieldChanges | null; problems: FieldProblem[] } {
  const names = Object.keys(change).filter((name) => NAMES.has(name));
  if (names.length === 0) return { plain: change, changes: null, problems: [] };
  const plain = Object.fromEntries(Object.entries(change).filter(([name]) => !NAMES.has(name)));
  const problems: FieldProblem[] = [];
  const seen = new Set(Object.keys(plain));
  const read = <T>(name: string, fits: (value: Json) => boolean, expected: string): Map<string, T> => {
    const given = change[name];
    if (given !== undefined && !isPlainObject(given))
      problems.push({
        path: name,
        problem: `\`${name}\` takes an object of fields.`,
        expected: `an object, such as {"${name}": {"seats": …}}`,
      });
    const taken = new Map<string, T>();
    for (const [field, value] of Object.entries(isPlainObject(given) ? given : {})) {
      if (seen.has(field))
        problems.push({ path: `${name}.${field}`, problem: `The change names \`${field}\` twice.`, expected: 'each field once' });
      else if (!fits(value))
        problems.push({ path: `${name}.${field}`, problem: `\`${name}\` cannot take ${JSON.stringify(value)}.`, expected });
      else taken.set(field, value as T);
      seen.add(field);
    }
    return taken;
  };
  const add = read<number>(FIELD_CHANGES.add, (value) => typeof value === 'number' && Number.isFinite(value), 'a number');
  const put = read<Json[]>(FIELD_CHANGES.put, isList, 'a list of 1 to 1,000 items');
  // One call may take some out and put others in.
  for (const field of put.keys()) seen.delete(field);
  const drop = read<Json[]>(FIELD_CHANGES.drop, isList, 'a list of 1 to 1,000 items');
  return { plain, changes: { add, put, drop }, problems };
}

/** A limit of a field that a sum would pass. */
export type PassedLimit = { field: string; limit: 'min' | 'max'; bound: number; value: number };
export type Applied = { values: JsonObject; problems: FieldProblem[]; passed: PassedLimit | null };

/** Larger integers lose their last digits (RFC 8259 section 6). */
const MOST = Number.MAX_SAFE_INTEGER;

/** The bounds that a sum of a field must keep. */
export function boundsOf(fields: Fields, name: string): { min: number; max: number } {
  const field = fields.get(name);
  const isInteger = field === undefined || field.type === 'integer';
  return {
    min: typeof field?.min === 'number' ? field.min : isInteger ? -MOST : -Number.MAX_VALUE,
    max: typeof field?.max === 'number' ? field.max : isInteger ? MOST : Number.MAX_VALUE,
  };
}

/** What the fields hold after the changes. @param before the record as it is */
export function applyFieldChanges(collection: string, fields: Fields, before: JsonObject, { add, put, drop }: FieldChanges): Applied {
  const values: JsonObject = {};
  const problems: FieldProblem[] = [];
  let passed: PassedLimit | null = null;
  for (const [name, delta] of add) {
    const problem = addendProblem(collection, fields, name, delta);
    if (problem) {
      problems.push(problem);
      continue;
    }
    const value = ((own(before, name) as number | null | undefined) ?? 0) + delta;
    const { min, max } = boundsOf(fields, name);
    if (value < min) passed ??= { field: name, limit: 'min', bound: min, value };
    if (value > max) passed ??= { field: name, limit: 'max', bound: max, value };
    values[name] = value;
  }
  for (const name of new Set([...put.keys(), ...drop.keys()])) {
    const field = fields.get(name);
    if (field && field.type !== 'list') {
      const path = `${put.has(name) ? FIELD_CHANGES.put : FIELD_CHANGES.drop}.${name}`;
      problems.push({
        path,
        problem: `Field \`${name}\` in \`${collection}\` is ${field.type}, not a list.`,
        expected: 'a field of the type list',
      });
      continue;
    }
    values[name] = listAfter((own(before, name) as Json[] | null | undefined) ?? [], put.get(name) ?? [], drop.get(name) ?? []);
  }
  return { values, problems, passed };
}

/** What forbids adding a number to a field; null: nothing. */
export function addendProblem(collection: string, fields: Fields, name: string, delta: number): FieldProblem | null {
  const field = fields.get(name);
  const path = `${FIELD_CHANGES.add}.${name}`;
  if (field && field.type !== 'integer' && field.type !== 'number')
    return {
      path,
      problem: `Field \`${name}\` in \`${collection}\` is ${field.type}: nothing can be added to it.`,
      expected: 'a field of the type integer or number',
    };
  if (field?.type === 'integer' && !Number.isInteger(delta))
    return { path, problem: `Field \`${name}\` in \`${collection}\` is an integer; got ${delta}.`, expected: 'a whole number' };
  if (Math.abs(delta) > MOST && field?.type !== 'number')
    return { path, problem: `${delta} is larger than an integer can be.`, expected: `a number between ${-MOST} and ${MOST}` };
  return null;
}

/** Items keep their places; new ones follow. */
function listAfter(before: readonly Json[], put: readonly Json[], drop: readonly Json[]): Json[] {
  const gone = new Set(drop.map((item) => JSON.stringify(item)));
  const after = before.filter((item) => !gone.has(JSON.stringify(item)));
  const there = new Set(after.map((item) => JSON.stringify(item)));
  for (const item of put) {
    const text = JSON.stringify(item);
    if (there.has(text)) continue;
    there.add(text);
    after.push(item);
  }
  return after;
}
