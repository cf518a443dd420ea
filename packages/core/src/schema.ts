/** Fields of a collection: their types and constraints, inferred from a first write and checked at every later one. */
import { FILES, type FieldType, KIND_OF_TYPE, type MergePolicy, type OnDelete, type WithRecord } from './fieldTypes.js';
import { nearest, type ValueKind } from './filter/index.js';
import { NAME_PATTERN } from './identifiers.js';
import { isPlainObject, isShallow, type Json, type JsonObject, own } from './json.js';
import { type Matcher, matcherOf, PatternError } from './pattern.js';
import { isPlace } from './place.js';
import { readDate, readTime } from './time.js';

/** One field. `checkField` refuses constraints that do not apply to a type. */
export type Field = {
  type: FieldType;
  /** Neither missing nor null. */
  required?: boolean;
  /** Used when a new record has no value; `now()` for the date or time of writing. */
  default?: Json;
  unique?: boolean;
  /** For numbers a number, for dates and times one as text. */
  min?: number | string;
  max?: number | string;
  minLength?: number;
  maxLength?: number;
  /** A regular expression that the whole text matches: ECMA-262 without look-around and back-references. */
  pattern?: string;
  choices?: string[];
  /** The collection a reference leads to, or `users`. */
  to?: string;
  onDelete?: OnDelete;
  /** Of a file: what happens to it when the record is deleted. Absent: it is kept. */
  withRecord?: WithRecord;
  /** Not shown to clients, nor writable or usable in filters by them. */
  hidden?: boolean;
  /** Says something of a person: a sample of records has made-up values in its place. */
  personal?: boolean;
  /** CQL2 over the record: who may set it, besides the team and its servers. Absent: whoever may write the record. */
  setBy?: string;
  /** CQL2 over the record: who may see it, besides the team and its servers. Absent: whoever may read the record. */
  seenBy?: string;
  /** How a change made offline is settled with another of the same field. Absent: the service's value stays. */
  merge?: MergePolicy;
};
/** The collection whose records a field holds ids of, or `users`; null for fields of other types. */
export const targetOfField = ({ type, to }: Pick<Field, 'type' | 'to'>): string | null =>
  type === 'file' ? FILES : type === 'reference' ? (to ?? null) : null;
/** Field names of a collection with their fields. */
export type Fields = ReadonlyMap<string, Field>;

/** What is wrong with one field, and what it must be. `path` is dotted. */
export type FieldProblem = { path: string; problem: string; expected: string };

/** Every record carries these; a write may not set them (`id` only when it creates). */
export const SYSTEM_FIELDS = ['id', 'createdAt', 'updatedAt', 'version', 'ownerId'] as const;
const systemFields: ReadonlySet<string> = new Set(SYSTEM_FIELDS);
/** Most fields a collection can have. */
export const MAX_FIELDS = 200;
/** Longest text or JSON value of one field, in UTF-16 units; a request body is bounded to 1 MB anyway. */
const MAX_TEXT = 1_000_000;

/** The type of a field in filters. */
export const kindOfField = ({ type }: Field): ValueKind => KIND_OF_TYPE[type];

/** The type of a field, inferred from its first value; null gives none. */
export function inferFieldType(value: Json): FieldType | null {
  if (value === null) return null;
  if (typeof value === 'string') return 'text';
  if (typeof value === 'boolean') return 'boolean';
  if (typeof value === 'number') return Number.isSafeInteger(value) ? 'integer' : 'number';
  if (Array.isArray(value)) return 'list';
  return isPlainObject(value) && value.type === 'Point' && 'coordinates' in value ? 'place' : 'object';
}

/** What each type holds, in short and with details. */
const TAKES: Record<FieldType, [short: string, more?: string]> = {
  text: ['text', 'at most 1,000,000 characters of well-formed Unicode'],
  integer: ['an integer', 'between -9007199254740991 and 9007199254740991'],
  number: ['a number'],
  boolean: ['true or false'],
  date: ['a date', 'such as "2026-07-14", of a day that exists'],
  time: ['a time', 'RFC 3339 with a zone, such as "2026-07-14T06:00:00Z"'],
  choice: ['one of its choices'],
  place: ['a GeoJSON Point', '{"type":"Point","coordinates":[longitude, latitude]} with longitude -180 to 180 and latitude -90 to 90'],
  reference: ['the id of a record', 'a text'],
  file: ['the id of a file', 'a text'],
  list: ['a list', 'nested at most 30 deep'],
  object: ['an object', 'nested at most 30 deep'],
};
/** Short and full descriptions. */
type Expectation = { short: string; full: string };

function takes({ type, choices }: Field): Expectation {
  if (type === 'choice') return alike(`one of ${(choices ?? []).join(', ')}`);
  const [short, more] = TAKES[type];
  return { short, full: more ? `${short}, ${more}` : short };
}

const alike = (text: string): Expectation => ({ short: text, full: text });

const isId = (v: Json) => typeof v === 'string' && /^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$/.test(v);
const FITS: Record<FieldType, (value: Json) => boolean> = {
  text: (v) => typeof v === 'string' && v.length <= MAX_TEXT && v.isWellFormed(),
  integer: (v) => Number.isSafeInteger(v),
  number: (v) => typeof v === 'number' && Number.isFinite(v),
  boolean: (v) => typeof v === 'boolean',
  date: (v) => typeof v === 'string' && readDate(v) !== null,
  time: (v) => typeof v === 'string' && readTime(v) !== null,
  choice: (v) => typeof v === 'string',
  place: isPlace,
  reference: isId,
  file: isId,
  list: (v) => Array.isArray(v) && isShallow(v),
  object: (v) => isPlainObject(v) && isShallow(v),
};

/** A short rendering of a refused value, for the message. */
export function describeValue(value: Json): string {
  if (!isShallow(value)) return 'a value nested too deep';
  const text = JSON.stringify(value);
  return text.length > 60 ? `${text.slice(0, 57)}…` : text;
}

/** The form in which a value is stored and returned: times in UTC with milliseconds. */
export const normalValue = ({ type }: Field, value: Json): Json =>
  type === 'time' && typeof value === 'string' ? new Date(readTime(value) ?? Number.NaN).toISOString() : value;

/** Why a value does not fit a field; null if it fits. */
export function misfitOf(collection: string, name: string, field: Field, value: Json): FieldProblem | null {
  if (value === null) return null;
  if (!FITS[field.type](value) || (field.type === 'choice' && !field.choices?.includes(value as string)))
    return misfit(collection, name, takes(field), value);
  return brokenConstraint(collection, name, field, value);
}

const misfit = (collection: string, name: string, { short, full }: Expectation, value: Json): FieldProblem => ({
  path: name,
  problem: `Field \`${name}\` in \`${collection}\` must be ${short}; got ${describeValue(value)}.`,
  expected: full,
});

function brokenConstraint(collection: string, name: string, field: Field, value: Json): FieldProblem | null {
  const { min, max, minLength, maxLength, pattern } = field;
  const broken = (expected: string) => misfit(collection, name, alike(expected), value);
  if (min !== undefined && sizeOf(field, value) < sizeOf(field, min)) return broken(`at least ${min}`);
  if (max !== undefined && sizeOf(field, value) > sizeOf(field, max)) return broken(`at most ${max}`);
  const length = typeof value === 'string' ? [...value].length : Array.isArray(value) ? value.length : null;
  const parts = typeof value === 'string' ? 'characters' : 'items';
  if (length !== null && minLength !== undefined && length < minLength) return broken(`at least ${minLength} ${parts}`);
  if (length !== null && maxLength !== undefined && length > maxLength) return broken(`at most ${maxLength} ${parts}`);
  if (pattern !== undefined && typeof value === 'string' && storedMatcher(pattern)?.(value) === false)
    return broken(`text that matches ${pattern}`);
  return null;
}

/** How a stored pattern is matched; null for an old one that is no longer accepted. */
function storedMatcher(pattern: string): Matcher | null {
  try {
    return matcherOf(pattern);
  } catch (error) {
    if (error instanceof PatternError) return null;
    throw error;
  }
}

/** Whether a stored pattern must be matched in a separate thread, with a time limit. */
export const isSlowPattern = (pattern: string): boolean => storedMatcher(pattern) === null;

/** The problem of a text that its pattern does not fit. */
export const patternProblem = (collection: string, name: string, pattern: string, value: Json): FieldProblem =>
  misfit(collection, name, alike(`text that matches ${pattern}`), value);

const sizeOf = ({ type }: Field, value: Json): number =>
  type === 'date' ? (readDate(value as string) ?? 0) : type === 'time' ? (readTime(value as string) ?? 0) : Number(value);

export type RecordCheck = {
  problems: FieldProblem[];
  /** The values to store: in normal form, with defaults. */
  values: JsonObject;
  /** New fields, inferred from their values. */
  added: Map<string, Field>;
  /** Integer fields that must become number fields for this write to fit. */
  widened: string[];
  /** Texts still to be matched in a separate thread with a time limit: their patterns can be extremely slow. */
  slowPatterns: { path: string; pattern: string; text: string }[];
};
export type CheckOptions = {
  /** `open` may add and widen fields, `closed` may not. */
  mode: 'open' | 'closed';
  /** `whole` is a new or replaced record, `part` some fields of one. */
  extent: 'whole' | 'part';
  /** Milliseconds since 1970, for `now()`. */
  now: number;
  /** Clients may not write hidden fields. */
  withHidden: boolean;
  /** Whether, in an open environment, a number with a fraction makes an integer field one of numbers. */
  widening?: boolean;
};

/** Checks the fields of one write against a collection's fields. */
export function checkFields(collection: string, fields: Fields, body: JsonObject, options: CheckOptions): RecordCheck {
  const result: RecordCheck = { problems: [], values: Object.create(null), added: new Map(), widened: [], slowPatterns: [] };
  const names = Object.keys(body);
  if (names.length > MAX_MEMBERS) return { ...result, problems: [tooManyProblem(collection, names.length)] };
  const taken = new Map([...fields.keys(), ...SYSTEM_FIELDS].map((name) => [name.toLowerCase(), name]));
  for (const name of names) {
    const value = body[name] as Json;
    const field = fields.get(name);
    if (systemFields.has(name)) result.problems.push(systemFieldProblem(name));
    else if (field && (options.withHidden || !field.hidden)) checkKnownField(collection, name, field, value, options, result);
    else checkNewField(collection, fields, taken, name, value, options, result);
  }
  if (options.extent === 'whole') fillDefaults(fields, body, options.now, result);
  checkRequired(collection, fields, options.extent, result);
  if (fields.size + result.added.size > MAX_FIELDS) {
    result.problems.push({
      path: [...result.added.keys()].at(-1) ?? collection,
      problem: `\`${collection}\` would have ${fields.size + result.added.size} fields; a collection holds at most ${MAX_FIELDS}.`,
      expected: `at most ${MAX_FIELDS} fields; put rarely used ones into one object field`,
    });
  }
  return result;
}

/** Names beyond this are refused before any is looked at: all fields, the system's own, and some that are refused by name. */
const MAX_MEMBERS = MAX_FIELDS + 20;
const tooManyProblem = (collection: string, members: number): FieldProblem => ({
  path: collection,
  problem: `The record has ${members.toLocaleString('en')} members; a collection holds at most ${MAX_FIELDS} fields.`,
  expected: `at most ${MAX_FIELDS} fields; put rarely used ones into one object field`,
});
/** The most unknown fields of one write that get a suggestion. */
const SUGGESTED = 5;
const named = (name: string): string => `\`${name.length > 80 ? `${name.slice(0, 79)}…` : name}\``;

const systemFieldProblem = (name: string): FieldProblem => ({
  path: name,
  problem: `\`${name}\` is set by the service and cannot be written.`,
  expected: `the body without \`${name}\``,
});

/** The value of a default at a moment. */
export function defaultValue(field: Field, now: number): Json | undefined {
  if (field.default !== 'now()') return field.default;
  const text = new Date(now).toISOString();
  return field.type === 'time' ? text : field.type === 'date' ? text.slice(0, 10) : field.default;
}

function fillDefaults(fields: Fields, body: JsonObject, now: number, result: RecordCheck): void {
  for (const [name, field] of fields) {
    if (field.default !== undefined && own(body, name) === undefined) result.values[name] = defaultValue(field, now) as Json;
  }
}

function checkRequired(collection: string, fields: Fields, extent: 'whole' | 'part', result: RecordCheck): void {
  for (const [name, field] of fields) {
    if (!field.required) continue;
    const value = own(result.values, name);
    const isMissing = extent === 'whole' ? value === undefined || value === null : value === null;
    if (isMissing && !result.problems.some(({ path }) => path === name))
      result.problems.push({ path: name, problem: `Field \`${name}\` in \`${collection}\` is required.`, expected: takes(field).full });
  }
}

function checkNewField(
  collection: string,
  fields: Fields,
  taken: Map<string, string>,
  name: string,
  value: Json,
  { mode }: CheckOptions,
  result: RecordCheck,
): void {
  if (mode === 'closed' || fields.has(name)) {
    const shown = [...fields].filter(([, { hidden }]) => !hidden).map(([known]) => known);
    result.problems.push({
      path: name,
      problem: `\`${collection}\` has no field ${named(name)}${(result.problems.length < SUGGESTED && nearest(name, shown)) || '.'}`,
      expected: shown.length ? `one of: ${shown.sort().join(', ')}` : 'no fields: the collection has none yet',
    });
    return;
  }
  const badName = nameProblem(name, taken);
  if (badName) {
    result.problems.push(badName);
    return;
  }
  const type = inferFieldType(value);
  if (!type) return;
  if (FITS[type](value)) {
    result.added.set(name, { type });
    taken.set(name.toLowerCase(), name);
    result.values[name] = value;
  } else result.problems.push(misfit(collection, name, takes({ type }), value));
}

/** Why a new field cannot have a name; null if it can. */
export const fieldNameProblem = (name: string, taken: Iterable<string>): FieldProblem | null =>
  nameProblem(name, new Map([...taken, ...SYSTEM_FIELDS].map((known) => [known.toLowerCase(), known])));

/** @param taken names by their lower case, since MariaDB compares column names without regard to case */
function nameProblem(name: string, taken: ReadonlyMap<string, string>): FieldProblem | null {
  if (!NAME_PATTERN.test(name))
    return {
      path: name,
      problem: `${describeValue(name)} cannot be a field name.`,
      expected: 'a lower-case letter, then up to 62 letters, digits or _',
    };
  const twin = taken.get(name.toLowerCase());
  return twin
    ? {
        path: name,
        problem: twin === name ? `There is a field \`${name}\` already.` : `\`${name}\` differs from the field \`${twin}\` only by case.`,
        expected: `\`${twin}\``,
      }
    : null;
}

function checkKnownField(
  collection: string,
  name: string,
  field: Field,
  value: Json,
  { mode, widening = true }: CheckOptions,
  result: RecordCheck,
): void {
  const widens = mode === 'open' && widening;
  if (field.type === 'integer' && widens && value !== null && !Number.isInteger(value) && FITS.number(value)) {
    result.widened.push(name);
    result.values[name] = value;
    return;
  }
  const problem = misfitOf(collection, name, field, value);
  if (problem) result.problems.push(problem);
  else result.values[name] = normalValue(field, value);
  if (field.pattern !== undefined && typeof value === 'string' && isSlowPattern(field.pattern))
    result.slowPatterns.push({ path: name, pattern: field.pattern, text: value });
}

const ALLOWED: Record<string, readonly FieldType[]> = {
  min: ['integer', 'number', 'date', 'time'],
  max: ['integer', 'number', 'date', 'time'],
  minLength: ['text', 'list'],
  maxLength: ['text', 'list'],
  pattern: ['text'],
  choices: ['choice'],
  to: ['reference'],
  onDelete: ['reference', 'file'],
  withRecord: ['file'],
  unique: ['text', 'integer', 'number', 'date', 'time', 'choice', 'reference', 'file'],
};

const MERGED: Partial<Record<MergePolicy, readonly FieldType[]>> = {
  larger: ['integer', 'number', 'date', 'time'],
  smaller: ['integer', 'number', 'date', 'time'],
  union: ['list'],
};

/** What is wrong with a field's own definition. */
export function checkField(name: string, field: Field): FieldProblem[] {
  const problems: FieldProblem[] = [];
  const wrong = (member: string, problem: string, expected: string) => problems.push({ path: `${name}.${member}`, problem, expected });
  const merged = field.merge && MERGED[field.merge];
  if (merged && !merged.includes(field.type))
    wrong('merge', `A field of type ${field.type} cannot be merged as ${field.merge}.`, `\`${field.merge}\` only for ${merged.join(', ')}`);
  for (const [member, types] of Object.entries(ALLOWED)) {
    if (field[member as keyof Field] !== undefined && field[member as keyof Field] !== false && !types.includes(field.type))
      wrong(member, `A field of type ${field.type} has no \`${member}\`.`, `\`${member}\` only for ${types.join(', ')}`);
  }
  if (
    field.type === 'choice' &&
    !(
      field.choices &&
      field.choices.length > 0 &&
      field.choices.every((one) => one.length > 0 && [...one].length <= 100) &&
      new Set(field.choices).size === field.choices.length
    )
  )
    wrong('choices', `The choice \`${name}\` needs its choices.`, 'one text or more, each up to 100 characters and once');
  if (field.type === 'reference' && !field.to) wrong('to', `The reference \`${name}\` has no target.`, 'a collection, or users');
  if (field.onDelete === 'clear' && field.required)
    wrong('onDelete', `\`${name}\` is required, so it cannot be cleared.`, 'restrict or cascade');
  if (field.pattern !== undefined) {
    try {
      matcherOf(field.pattern);
    } catch (error) {
      if (!(error instanceof PatternError)) throw error;
      wrong('pattern', error.message, 'a regular expression (ECMA-262) without look-around and back-references');
    }
  }
  for (const bound of ['min', 'max'] as const) {
    const value = field[bound];
    if (value !== undefined && ALLOWED.min?.includes(field.type) && !FITS[field.type === 'integer' ? 'number' : field.type](value))
      wrong(bound, `\`${bound}\` of \`${name}\` is ${describeValue(value)}.`, takes(field).full);
  }
  if (problems.length === 0 && field.default !== undefined && field.default !== null) {
    const given = field.default === 'now()' && (field.type === 'date' || field.type === 'time') ? null : field.default;
    const bad = misfitOf('default', name, field, given);
    if (bad) wrong('default', `The default of \`${name}\` does not fit it: ${describeValue(field.default)}.`, bad.expected);
  }
  return problems;
}

/** A value turned into what another type takes; undefined where it cannot be. */
export function convertValue(value: Json, field: Field): Json | undefined {
  if (value === null) return null;
  const fits = (candidate: Json) => (misfitOf('', '', field, candidate) ? undefined : normalValue(field, candidate));
  if (fits(value) !== undefined) return fits(value);
  switch (field.type) {
    case 'text':
    case 'choice':
    case 'reference':
    case 'file':
      return fits(typeof value === 'object' ? JSON.stringify(value) : String(value));
    case 'integer':
    case 'number':
      if (typeof value === 'boolean') return fits(Number(value));
      return typeof value === 'string' && value.trim() !== '' ? fits(Number(value)) : undefined;
    case 'boolean':
      if (value === 0 || value === 1) return value === 1;
      return typeof value === 'string'
        ? own<boolean>({ true: true, false: false, '1': true, '0': false, yes: true, no: false }, value.toLowerCase())
        : undefined;
    case 'date':
      return typeof value === 'string' && readTime(value) !== null
        ? fits(new Date(readTime(value) as number).toISOString().slice(0, 10))
        : undefined;
    case 'time':
      return typeof value === 'string' && readDate(value) !== null ? fits(`${value}T00:00:00.000Z`) : undefined;
    default:
      return fits(parsed(value) ?? null) ?? undefined;
  }
}

function parsed(value: Json): Json | undefined {
  if (typeof value !== 'string') return undefined;
  try {
    return JSON.parse(value);
  } catch {
    return undefined;
  }
}
