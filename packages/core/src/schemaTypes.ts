/**
 * Collections and user fields as types of TypeScript, for an app: one that names a field that is not there does not compile. What
 * the types expect stands beside them, so that it can be compared with a later schema.
 */
import type { FieldType } from './fieldTypes.js';

export type TypedField = { type: FieldType | string; required: boolean; choices?: readonly string[] | undefined; to?: string | undefined };
export type TypedCollection = { name: string; fields: readonly (TypedField & { name: string })[]; wellKnown: readonly string[] };
export type TypedSchema = {
  collections: readonly TypedCollection[];
  userFields: readonly (TypedField & { name: string })[];
  endpoints: readonly string[];
};
/** Types of fields, by collection; of users under `users`. */
export type ExpectedFields = Record<string, Record<string, string>>;

const TYPES: Record<string, string> = {
  text: 'string',
  integer: 'number',
  number: 'number',
  boolean: 'boolean',
  date: 'string',
  time: 'string',
  place: 'Place',
  reference: 'string',
  file: 'string',
  list: 'unknown[]',
  object: '{ [name: string]: unknown }',
};
const IDENTIFIER = /^[A-Za-z_$][\w$]*$/;
const keyOf = (name: string): string => (IDENTIFIER.test(name) ? name : JSON.stringify(name));

function typeOf({ type, choices, required }: TypedField): string {
  const own =
    type === 'choice' ? (choices ?? []).map((choice) => JSON.stringify(choice)).join(' | ') || 'string' : (TYPES[type] ?? 'unknown');
  return required ? own : `${own} | null`;
}
const members = (fields: readonly (TypedField & { name: string })[], indent: string): string =>
  fields.map((field) => `${indent}${keyOf(field.name)}: ${typeOf(field)};${field.to ? ` // id in ${field.to}` : ''}\n`).join('');

/** @param of names the environment in the first line */
export function schemaTypes(of: string, { collections, userFields, endpoints }: TypedSchema): string {
  const records = collections.map(({ name, fields }) => `  ${keyOf(name)}: RecordOf<{\n${members(fields, '    ')}  }>;\n`).join('');
  const known = collections.filter(({ wellKnown }) => wellKnown.length > 0);
  const wellKnown = known
    .map(({ name, wellKnown: ids }) => `  ${keyOf(name)}: ${ids.map((id) => JSON.stringify(id)).join(' | ')};\n`)
    .join('');
  return [
    `// The schema of ${of}, by \`orchard types\`. Make it again when the schema changes.\n`,
    `type Place = { type: 'Point'; coordinates: [longitude: number, latitude: number] };\n`,
    'type RecordOf<Fields> = { id: string; createdAt: string; updatedAt: string; version: number; ownerId: string | null } & Fields;\n\n',
    `/** For \`connect<Schema>(profile)\`. */\nexport type Schema = {\n${records}};\n\n`,
    `/** What the app keeps about a user, in \`user.data\`. */\nexport type UserFields = {\n${members(userFields, '  ')}};\n\n`,
    `/** Records with ids of their own, which apps may watch by name. */\nexport type WellKnown = {\n${wellKnown}};\n\n`,
    `/** Endpoints of the team. */\nexport type Endpoint = ${endpoints.map((path) => JSON.stringify(path)).join(' | ') || 'never'};\n`,
  ].join('');
}

export function expectedFields({ collections, userFields }: TypedSchema): ExpectedFields {
  const typesOf = (fields: readonly (TypedField & { name: string })[]) => Object.fromEntries(fields.map(({ name, type }) => [name, type]));
  return { ...Object.fromEntries(collections.map(({ name, fields }) => [name, typesOf(fields)])), users: typesOf(userFields) };
}
