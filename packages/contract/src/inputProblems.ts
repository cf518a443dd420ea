/** What is wrong with a value, field by field: of requests, and of files that are read before they are sent. */
import { describeValue, type FieldProblem, type Json, nearest } from '@orchard/core';
import type { z } from 'zod';
import { expectedOf } from './expectation.js';

/** Names in a request can be long. */
const shortened = (name: string) => (name.length > 60 ? `${name.slice(0, 60)}…` : name);
const MOST_SUGGESTED = 5;

/** The most errors that are reported for one request. */
const MOST_PROBLEMS = 50;

/** @param fields where to what does not fit is added @returns the value with its defaults; undefined where it does not fit */
export function checkInput(schema: z.ZodType, value: unknown, where: string, fields: FieldProblem[]): unknown {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  for (const issue of result.error.issues) {
    if (fields.length >= MOST_PROBLEMS) break;
    fields.push(...describeIssue(issue, where, value, schema).slice(0, MOST_PROBLEMS - fields.length));
  }
  return undefined;
}

/** What is wrong with a part of a request that has a schema of its own. */
export function problemsOf(schema: z.ZodType, value: unknown, where: string): FieldProblem[] {
  const fields: FieldProblem[] = [];
  checkInput(schema, value, where, fields);
  return fields;
}

/** The names that an object inside a value may have, for suggestions. */
function namesAt(schema: z.ZodType | undefined, path: readonly PropertyKey[]): string[] {
  const inner = unwrapped(schema);
  if (path.length === 0) return inner && 'shape' in inner ? Object.keys(inner.shape as object) : [];
  const [step, ...rest] = path;
  if (inner && 'shape' in inner) return namesAt((inner.shape as Record<PropertyKey, z.ZodType>)[step as string], rest);
  if (inner && 'valueType' in inner) return namesAt(inner.valueType as z.ZodType, rest);
  return inner && 'element' in inner ? namesAt(inner.element as z.ZodType, rest) : [];
}

/** The schema inside those that only say what is missing or left out. */
function unwrapped(schema: z.ZodType | undefined): z.ZodType | undefined {
  return schema && 'unwrap' in schema && !('element' in schema) ? unwrapped((schema as z.ZodOptional<z.ZodType>).unwrap()) : schema;
}

function describeIssue(issue: z.core.$ZodIssue, where: string, whole: unknown, schema?: z.ZodType): FieldProblem[] {
  const path = [where, ...issue.path.map(String)].filter(Boolean).join('.');
  const value = valueAt(whole, issue.path);
  if (issue.code === 'unrecognized_keys') {
    const known = namesAt(schema, issue.path);
    return issue.keys.slice(0, MOST_PROBLEMS).map((key, i) => ({
      path: `${path}.${key}`,
      problem: `Unknown ${where === 'query' ? 'query parameter' : 'field'} \`${shortened(key)}\`${(i < MOST_SUGGESTED && nearest(key, known)) || '.'}`,
      expected: 'the request without it',
    }));
  }
  if (issue.code === 'invalid_union') return describeUnion(issue, path, where, whole);
  const expected = expectedOf(issue);
  if (issue.code === 'invalid_key') return [{ path, problem: `The name must be ${expected}.`, expected }];
  if (value === undefined) return [{ path, problem: 'It is required.', expected }];
  // A response must not repeat a password, not even a refused one; a key may have been sent in place of a certificate.
  const got = /password|token|key|trust|secret|certificate|code/i.test(path) ? '' : `; got ${describeValue(value as Json)}`;
  return [{ path, problem: `Must be ${expected}${got}.`, expected }];
}

/** Reports errors of the nearest alternative: the one with the fewest unknown or missing members. */
function describeUnion(issue: z.core.$ZodIssueInvalidUnion, path: string, where: string, whole: unknown): FieldProblem[] {
  const nearest = [...issue.errors].sort((a, b) => weight(a) - weight(b))[0];
  if (!nearest || weight(nearest) > 2)
    return [{ path, problem: 'Must be one of the forms in /openapi.json.', expected: 'one of the forms in /openapi.json' }];
  return nearest.flatMap((inner) => describeIssue({ ...inner, path: [...issue.path, ...inner.path] }, where, whole));
}

const weight = (issues: z.core.$ZodIssue[]) =>
  issues.reduce((sum, issue) => sum + (issue.code === 'unrecognized_keys' ? issue.keys.length : 1), 0);

function valueAt(whole: unknown, path: PropertyKey[]): unknown {
  return path.reduce<unknown>(
    (at, key) =>
      at === null || at === undefined ? undefined : Object.hasOwn(Object(at), key) ? (at as Record<PropertyKey, unknown>)[key] : undefined,
    whole,
  );
}
