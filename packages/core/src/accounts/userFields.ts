/** Fields of users that the team has defined: the same types and constraints as those of collections, but for what leads elsewhere. */
import type { ValueKind } from '../filter/condition.js';
import { type JsonObject, own } from '../json.js';
import { type Field, type FieldProblem, kindOfField, misfitOf, normalValue } from '../schema.js';
import type { USER_FIELD_TYPES } from './userFieldTypes.js';

export type UserField = Field & {
  type: (typeof USER_FIELD_TYPES)[number];
  description?: string;
  /** Who sees it besides the team and its servers. */
  seenBy: 'user' | 'servers';
  changedBy: 'user' | 'servers';
};
export type UserFields = Record<string, UserField>;

/** Kinds that `me('…')` can give: one value each. */
const SINGLE: ReadonlySet<ValueKind> = new Set(['text', 'number', 'boolean', 'date', 'time']);

/** The defined fields for filters, by kind. */
export const userFieldKinds = (fields: UserFields): Map<string, ValueKind> =>
  new Map(Object.entries(fields).map(([name, field]) => [name, kindOfField(field)]));

/** Those that `me('…')` may name. */
export const meKinds = (fields: UserFields): Map<string, ValueKind> =>
  new Map([...userFieldKinds(fields)].filter(([, kind]) => SINGLE.has(kind)));

/**
 * Checks what is to be changed of a user's fields. Names that are not defined are the app's own and may be anything.
 * @param by who changes them: the user, or the team and its servers
 * @param whole whether it is a new account, in which required fields may not be missing
 * @returns the values in normal form, and what is wrong
 */
export function checkUserData(
  fields: UserFields,
  changes: JsonObject,
  { by, whole }: { by: 'user' | 'servers'; whole: boolean },
): { values: JsonObject; problems: FieldProblem[] } {
  const problems: FieldProblem[] = [];
  const values: JsonObject = { ...changes };
  for (const [name, value] of Object.entries(changes)) {
    const field = Object.hasOwn(fields, name) ? fields[name] : undefined;
    if (!field || value === undefined) continue;
    if (by === 'user' && field.changedBy === 'servers')
      problems.push({ path: name, problem: `\`${name}\` is set by the team and its servers.`, expected: 'a change without it' });
    else if (value === null && field.required) problems.push({ path: name, problem: `\`${name}\` is required.`, expected: 'a value' });
    else {
      const misfit = misfitOf('users', name, field, value);
      if (misfit) problems.push(misfit);
      else if (value !== null) values[name] = normalValue(field, value);
    }
  }
  // What only servers may set cannot be missing from a sign-up.
  const missing = Object.entries(fields).filter(
    ([name, field]) => whole && field.required && (by === 'servers' || field.changedBy === 'user') && (own(changes, name) ?? null) === null,
  );
  for (const [name] of missing) problems.push({ path: name, problem: `\`${name}\` is required.`, expected: 'a value' });
  return { values, problems };
}

/** What a user sees of their own fields. */
export function shownData(fields: UserFields, data: JsonObject): JsonObject {
  const hidden = Object.entries(fields).filter(([name, { seenBy }]) => seenBy === 'servers' && Object.hasOwn(data, name));
  if (hidden.length === 0) return data;
  const shown = { ...data };
  for (const [name] of hidden) delete shown[name];
  return shown;
}

/** The values that rules may ask for: defined, and of their type. What an app kept under the name before may be anything. */
export function ruleFields(fields: UserFields, data: JsonObject): JsonObject {
  const values: JsonObject = {};
  for (const name of meKinds(fields).keys()) {
    const value = own(data, name);
    const field = fields[name] as UserField;
    if (value !== undefined && value !== null && misfitOf('users', name, field, value) === null) values[name] = value;
  }
  return values;
}
