/**
 * A collection's fields as JSON Schema (draft 2020-12), and back. What JSON Schema has no keyword for is an annotation whose
 * name begins with `orchard` (JSON Schema core section 6.5: unknown keywords are annotations).
 */
import { type FieldType, MERGE_POLICIES, type MergePolicy, ON_DELETE, type OnDelete } from './fieldTypes.js';
import { isPlainObject, type Json, type JsonObject } from './json.js';
import { checkField, type Field, type FieldProblem, type Fields } from './schema.js';

export const DIALECT = 'https://json-schema.org/draft/2020-12/schema';

const POINT: JsonObject = {
  type: 'object',
  properties: {
    type: { const: 'Point' },
    coordinates: {
      type: 'array',
      prefixItems: [
        { type: 'number', minimum: -180, maximum: 180 },
        { type: 'number', minimum: -90, maximum: 90 },
      ],
      items: false,
      minItems: 2,
    },
  },
  required: ['type', 'coordinates'],
  additionalProperties: false,
};
const SHAPES: Record<FieldType, JsonObject> = {
  text: { type: 'string' },
  integer: { type: 'integer' },
  number: { type: 'number' },
  boolean: { type: 'boolean' },
  date: { type: 'string', format: 'date' },
  time: { type: 'string', format: 'date-time' },
  choice: { type: 'string' },
  place: POINT,
  reference: { type: 'string' },
  file: { type: 'string' },
  list: { type: 'array' },
  object: { type: 'object' },
};

/** @param closed whether other members than these are refused */
export function toJsonSchema(collection: string, fields: Fields, closed: boolean): JsonObject {
  const required = [...fields].filter(([, field]) => field.required).map(([name]) => name);
  return {
    $schema: DIALECT,
    title: collection,
    type: 'object',
    properties: Object.fromEntries([...fields].map(([name, field]) => [name, propertyOf(field)])),
    ...(required.length > 0 ? { required } : {}),
    additionalProperties: !closed,
  };
}

function propertyOf(field: Field): JsonObject {
  const { type, min, max, minLength, maxLength, pattern, choices } = field;
  const shape: JsonObject = { ...SHAPES[type] };
  const timed = type === 'date' || type === 'time';
  if (min !== undefined) shape[timed ? 'orchardMin' : 'minimum'] = min;
  if (max !== undefined) shape[timed ? 'orchardMax' : 'maximum'] = max;
  if (minLength !== undefined) shape[type === 'list' ? 'minItems' : 'minLength'] = minLength;
  if (maxLength !== undefined) shape[type === 'list' ? 'maxItems' : 'maxLength'] = maxLength;
  if (pattern !== undefined) shape.pattern = `^(?:${pattern})$`;
  if (choices) shape.enum = field.required ? choices : [...choices, null];
  if (field.default !== undefined) shape[field.default === 'now()' && timed ? 'orchardDefault' : 'default'] = field.default;
  if (field.to) shape.orchardReference = { to: field.to, onDelete: field.onDelete ?? 'restrict' };
  if (type === 'file') shape.orchardFile = { onDelete: field.onDelete ?? 'restrict', withRecord: field.withRecord ?? 'keep' };
  if (field.unique) shape.orchardUnique = true;
  if (field.hidden) shape.orchardHidden = true;
  if (field.personal) shape.orchardPersonal = true;
  if (field.setBy) shape.orchardSetBy = field.setBy;
  if (field.seenBy) shape.orchardSeenBy = field.seenBy;
  if (field.merge) shape.orchardMerge = field.merge;
  if (!field.required) shape.type = [shape.type as string, 'null'];
  return shape;
}

export type ReadSchema = { fields: Map<string, Field>; problems: FieldProblem[] };

/** Reads the fields out of a JSON Schema; keywords that our fields do not have are refused by name. */
export function fromJsonSchema(schema: Json): ReadSchema {
  const result: ReadSchema = { fields: new Map(), problems: [] };
  if (!isPlainObject(schema) || !isPlainObject(schema.properties)) {
    result.problems.push({
      path: 'properties',
      problem: 'The schema has no `properties`.',
      expected: 'a JSON Schema of an object, with `properties`',
    });
    return result;
  }
  refuseOthers(
    schema,
    ['$schema', '$id', 'title', 'description', 'type', 'properties', 'required', 'additionalProperties'],
    '',
    result.problems,
  );
  if (schema.$schema !== undefined && schema.$schema !== DIALECT)
    result.problems.push({ path: '$schema', problem: `The schema is written in ${String(schema.$schema)}.`, expected: DIALECT });
  const required = Array.isArray(schema.required) ? schema.required : [];
  for (const [name, property] of Object.entries(schema.properties)) {
    const field = readProperty(name, property, required.includes(name), result.problems);
    if (!field) continue;
    result.problems.push(...checkField(name, field));
    result.fields.set(name, field);
  }
  return result;
}

function refuseOthers(schema: JsonObject, known: string[], path: string, problems: FieldProblem[]): void {
  for (const keyword of Object.keys(schema)) {
    if (!known.includes(keyword))
      problems.push({
        path: path ? `${path}.${keyword}` : keyword,
        problem: `The keyword \`${keyword}\` has no meaning for a field here.`,
        expected: `only: ${known.join(', ')}`,
      });
  }
}

const WORDS = [
  'type',
  'format',
  'enum',
  'properties',
  'required',
  'additionalProperties',
  'minimum',
  'maximum',
  'minLength',
  'maxLength',
  'minItems',
  'maxItems',
  'pattern',
  'default',
  'title',
  'description',
  'orchardMin',
  'orchardMax',
  'orchardDefault',
  'orchardReference',
  'orchardFile',
  'orchardUnique',
  'orchardHidden',
  'orchardMerge',
];

function readProperty(name: string, property: Json, required: boolean, problems: FieldProblem[]): Field | null {
  if (!isPlainObject(property)) {
    problems.push({ path: name, problem: 'It is not a schema.', expected: 'an object with `type`' });
    return null;
  }
  refuseOthers(property, WORDS, name, problems);
  const types = (Array.isArray(property.type) ? property.type : [property.type]).filter((type) => type !== 'null');
  const type = types.length === 1 ? typeOf(property, String(types[0])) : null;
  if (!type) {
    problems.push({
      path: `${name}.type`,
      problem: `${JSON.stringify(property.type)} is not a type of field.`,
      expected: 'string, integer, number, boolean, array or object, with "null" beside it or not',
    });
    return null;
  }
  const reference = isPlainObject(property.orchardReference) ? property.orchardReference : null;
  const pick = <T extends Json>(value: Json | undefined) => value as T | undefined;
  const field: Field = { type };
  const set = <K extends keyof Field>(member: K, value: Field[K] | undefined) => {
    if (value !== undefined) field[member] = value;
  };
  if (required) field.required = true;
  set('default', property.default ?? property.orchardDefault);
  if (property.orchardUnique === true) field.unique = true;
  set('min', pick(property.minimum ?? property.orchardMin));
  set('max', pick(property.maximum ?? property.orchardMax));
  set('minLength', pick(property.minLength ?? property.minItems));
  set('maxLength', pick(property.maxLength ?? property.maxItems));
  set('pattern', typeof property.pattern === 'string' ? property.pattern.replace(/^\^\(\?:(.*)\)\$$/s, '$1') : undefined);
  if (Array.isArray(property.enum)) field.choices = property.enum.filter((one) => one !== null).map(String);
  if (reference) {
    field.to = String(reference.to);
    if ((ON_DELETE as readonly Json[]).includes(reference.onDelete as Json)) field.onDelete = reference.onDelete as OnDelete;
  }
  const file = isPlainObject(property.orchardFile) ? property.orchardFile : null;
  if (file) {
    if ((ON_DELETE as readonly Json[]).includes(file.onDelete as Json)) field.onDelete = file.onDelete as OnDelete;
    if (file.withRecord === 'delete') field.withRecord = 'delete';
  }
  if (property.orchardHidden === true) field.hidden = true;
  if (property.orchardPersonal === true) field.personal = true;
  if (typeof property.orchardSetBy === 'string') field.setBy = property.orchardSetBy;
  if (typeof property.orchardSeenBy === 'string') field.seenBy = property.orchardSeenBy;
  if ((MERGE_POLICIES as readonly Json[]).includes(property.orchardMerge as Json)) field.merge = property.orchardMerge as MergePolicy;
  return field;
}

function typeOf(property: JsonObject, type: string): FieldType | null {
  switch (type) {
    case 'string':
      if (property.enum) return 'choice';
      if (property.orchardReference) return 'reference';
      if (property.orchardFile) return 'file';
      return property.format === 'date' ? 'date' : property.format === 'date-time' ? 'time' : 'text';
    case 'integer':
    case 'number':
    case 'boolean':
      return type;
    case 'array':
      return 'list';
    case 'object': {
      const inner = isPlainObject(property.properties) && isPlainObject(property.properties.type) ? property.properties.type : {};
      return inner.const === 'Point' ? 'place' : 'object';
    }
    default:
      return null;
  }
}
