/** Changes that depend on what stands in a record, such as a counter: what the core finds wrong with them, as problems. */
import { Problem } from '@orchard/contract';
import {
  addendProblem,
  applyFieldChanges,
  boundsOf,
  type FieldChanges,
  type FieldProblem,
  type JsonObject,
  type PassedLimit,
  readFieldChanges,
} from '@orchard/core';
import type { CollectionShape } from '../collections/shape.js';
import type { Sum } from './writeStore.js';

/** @throws {Problem} invalid-input */
export function readChange(patch: JsonObject): { plain: JsonObject; changes: FieldChanges | null } {
  const { plain, changes, problems } = readFieldChanges(patch);
  demandNone(problems);
  return { plain, changes };
}

/**
 * The values of fields after a change.
 * @throws {Problem} invalid-input, limit-passed
 */
export function valuesAfter(
  { name, fields }: Pick<CollectionShape, 'name' | 'fields'>,
  before: JsonObject,
  changes: FieldChanges,
): JsonObject {
  const { values, problems, passed } = applyFieldChanges(name, fields, before, changes);
  demandNone(problems);
  if (passed) throw limitPassed(name, passed);
  return values;
}

/**
 * The sums of a change that is nothing but additions to numbers that are there; null for any other.
 * @throws {Problem} invalid-input
 */
export function sumsOf({ name, fields }: CollectionShape, plain: JsonObject, { add, put, drop }: FieldChanges): Sum[] | null {
  const isMore = Object.keys(plain).length > 0 || put.size > 0 || drop.size > 0 || add.size === 0;
  if (isMore || [...add.keys()].some((field) => !fields.has(field))) return null;
  demandNone([...add].flatMap(([field, delta]) => addendProblem(name, fields, field, delta) ?? []));
  return [...add].map(([field, delta]) => ({ field, delta, ...boundsOf(fields, field) }));
}

function demandNone(problems: readonly FieldProblem[]): void {
  if (problems.length === 0) return;
  throw new Problem('invalid-input', problems[0]?.problem ?? '', {
    fields: problems.map((problem) => ({ ...problem, path: `body.${problem.path}` })),
  });
}

function limitPassed(collection: string, { field, limit, bound, value }: PassedLimit): Problem {
  const words = `Field \`${field}\` in \`${collection}\` would be ${value}; ${limit === 'min' ? `its least is ${bound}` : `its most is ${bound}`}.`;
  return new Problem('limit-passed', `${words} Nothing was added.`, {
    fields: [{ path: `body._add.${field}`, problem: words, expected: `a sum of at ${limit === 'min' ? 'least' : 'most'} ${bound}` }],
  });
}
