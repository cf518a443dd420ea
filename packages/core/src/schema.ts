/** Field types: inferred from a first write, and checked at every later one. */
import { NAME_PATTERN } from './identifiers.js';
import { isPlainObject, type Json, type JsonObject } from './json.js';

export const FIELD_TYPES = ['text', 'integer', 'number', 'boolean', 'place', 'list', 'object'] as const;
export type FieldType = (typeof FIELD_TYPES)[number];
/** Field names of a collection with their types. */
export type FieldTypes = ReadonlyMap<string, FieldType>;

/** What went wrong with one field, and what would be right. `path` is dotted. */
export type FieldProblem = { path: string; problem: string; expected: string };

/** Every record carries these; a write may not set them (`id` only when it creates). */
export const SYSTEM_FIELDS = ['id', 'createdAt', 'updatedAt', 'version', 'ownerId'] as const;
const systemFields: ReadonlySet<string> = new Set(SYSTEM_FIELDS);
/** Most fields a collection can have. */
export const MAX_FIELDS = 200;
/** Longest text or JSON value of one field, in UTF-16 units; a request body is bounded to 1 MB anyway. */
const MAX_TEXT = 1_000_000;

/** A GeoJSON Point (RFC 7946 section 3.1.2), longitude first. */
export type Place = { type: 'Point'; coordinates: [number, number] };

/** True for a GeoJSON Point whose position is on the globe (RFC 7946 section 4: WGS 84 degrees). */
export function isPlace(value: Json): value is Place {
  if (!isPlainObject(value) || value.type !== 'Point' || !Array.isArray(value.coordinates)) return false;
  if (Object.keys(value).length !== 2 || value.coordinates.length !== 2) return false;
  const [lon, lat] = value.coordinates;
  return typeof lon === 'number' && typeof lat === 'number' && Math.abs(lon) <= 180 && Math.abs(lat) <= 90;
}

/** The type a first value gives its field; null decides nothing. */
export function inferFieldType(value: Json): FieldType | null {
  if (value === null) return null;
  if (typeof value === 'string') return 'text';
  if (typeof value === 'boolean') return 'boolean';
  if (typeof value === 'number') return Number.isSafeInteger(value) ? 'integer' : 'number';
  if (Array.isArray(value)) return 'list';
  return isPlainObject(value) && value.type === 'Point' && 'coordinates' in value ? 'place' : 'object';
}

/** What each type takes: in a few words, and what to know beyond them. */
const TAKES: Record<FieldType, [short: string, more?: string]> = {
  text: ['text', 'at most 1,000,000 letters'],
  integer: ['an integer', 'between -9007199254740991 and 9007199254740991'],
  number: ['a number'],
  boolean: ['true or false'],
  place: ['a GeoJSON Point', '{"type":"Point","coordinates":[longitude, latitude]} with longitude -180 to 180 and latitude -90 to 90'],
  list: ['a list', 'nested at most 30 deep'],
  object: ['an object', 'nested at most 30 deep'],
};

/** MariaDB reads JSON nested up to 32 levels; the column itself is one of them. */
const MAX_DEPTH = 30;

/** Whether a value nests at most `depth` lists and objects into each other. */
export function isShallow(value: Json, depth = MAX_DEPTH): boolean {
  if (typeof value !== 'object' || value === null) return true;
  return depth > 0 && Object.values(value).every((inner) => isShallow(inner, depth - 1));
}

const FITS: Record<FieldType, (value: Json) => boolean> = {
  text: (v) => typeof v === 'string' && v.length <= MAX_TEXT,
  integer: (v) => Number.isSafeInteger(v),
  number: (v) => typeof v === 'number' && Number.isFinite(v),
  boolean: (v) => typeof v === 'boolean',
  place: isPlace,
  list: (v) => Array.isArray(v) && isShallow(v),
  object: (v) => isPlainObject(v) && isShallow(v),
};

/** A short rendering of a refused value, for the message. */
export function describeValue(value: Json): string {
  if (!isShallow(value)) return 'a value nested too deep';
  const text = JSON.stringify(value);
  return text.length > 60 ? `${text.slice(0, 57)}…` : text;
}

export type RecordCheck = {
  problems: FieldProblem[];
  /** Fields that the collection does not have yet, with the type their value gives. */
  added: Map<string, FieldType>;
  /** Integer fields that must become number fields for this write to fit. */
  widened: string[];
};

/**
 * Checks the fields of one write against a collection's fields.
 * @param mode `open` may add and widen fields, `closed` may not
 */
export function checkFields(collection: string, fields: FieldTypes, body: JsonObject, mode: 'open' | 'closed'): RecordCheck {
  const result: RecordCheck = { problems: [], added: new Map(), widened: [] };
  for (const [name, value] of Object.entries(body)) {
    if (systemFields.has(name)) result.problems.push(systemFieldProblem(name));
    else if (!fields.has(name)) checkNewField(collection, fields, name, value, mode, result);
    else checkKnownField(collection, name, fields.get(name) as FieldType, value, mode, result);
  }
  if (fields.size + result.added.size > MAX_FIELDS) {
    result.problems.push({
      path: [...result.added.keys()].at(-1) ?? collection,
      problem: `\`${collection}\` would have ${fields.size + result.added.size} fields; a collection holds at most ${MAX_FIELDS}.`,
      expected: `at most ${MAX_FIELDS} fields; put rarely used ones into one object field`,
    });
  }
  return result;
}

const systemFieldProblem = (name: string): FieldProblem => ({
  path: name,
  problem: `\`${name}\` is set by the service and cannot be written.`,
  expected: `the body without \`${name}\``,
});

function checkNewField(
  collection: string,
  fields: FieldTypes,
  name: string,
  value: Json,
  mode: 'open' | 'closed',
  result: RecordCheck,
): void {
  if (mode === 'closed') {
    result.problems.push({
      path: name,
      problem: `\`${collection}\` has no field \`${name}\`.`,
      expected: fields.size ? `one of: ${[...fields.keys()].sort().join(', ')}` : 'no fields: the collection has none yet',
    });
    return;
  }
  if (!NAME_PATTERN.test(name)) {
    result.problems.push({
      path: name,
      problem: `${describeValue(name)} cannot be a field name.`,
      expected: 'a lower-case letter, then up to 62 letters, digits or _',
    });
    return;
  }
  // MariaDB compares column names without regard to case, so two such fields could not stand side by side.
  const twin = [...fields.keys(), ...result.added.keys(), ...SYSTEM_FIELDS].find((known) => known.toLowerCase() === name.toLowerCase());
  if (twin) {
    result.problems.push({ path: name, problem: `\`${name}\` differs from the field \`${twin}\` only by case.`, expected: `\`${twin}\`` });
    return;
  }
  const type = inferFieldType(value);
  if (!type) return;
  if (FITS[type](value)) result.added.set(name, type);
  else result.problems.push(misfit(collection, name, type, value));
}

function checkKnownField(
  collection: string,
  name: string,
  type: FieldType,
  value: Json,
  mode: 'open' | 'closed',
  result: RecordCheck,
): void {
  if (value === null || FITS[type](value)) return;
  if (type === 'integer' && mode === 'open' && FITS.number(value)) result.widened.push(name);
  else result.problems.push(misfit(collection, name, type, value));
}

const misfit = (collection: string, name: string, type: FieldType, value: Json): FieldProblem => ({
  path: name,
  problem: `Field \`${name}\` in \`${collection}\` takes ${TAKES[type][0]}; got ${describeValue(value)}.`,
  expected: TAKES[type].filter(Boolean).join(', '),
});
