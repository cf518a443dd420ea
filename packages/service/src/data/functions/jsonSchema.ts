/** JSON Schemas that teams give for the bodies of endpoints. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { LRUCache } from 'lru-cache';
import { z } from 'zod';
import { problemsOf } from '@orchard/contract/inputProblems';

const MOST_SCHEMAS = 500;
const known = new LRUCache<JsonObject, z.ZodType>({ max: MOST_SCHEMAS });

function read(schema: JsonObject): z.ZodType {
  let found = known.get(schema);
  if (!found) known.set(schema, (found = z.fromJSONSchema(schema as never)));
  return found;
}

/** @throws {Problem} invalid-input, at `body.input` or `body.output` */
export function demandSchema(schema: JsonObject | undefined, name: 'input' | 'output'): void {
  try {
    if (schema) z.fromJSONSchema(schema as never);
  } catch (error) {
    const problem = `It is no JSON Schema that can be checked: ${(error as Error).message}`;
    throw new Problem('invalid-input', problem, { fields: [{ path: `body.${name}`, problem, expected: 'a JSON Schema, 2020-12' }] });
  }
}

/** @throws {Problem} invalid-input */
export function demandInput(schema: JsonObject, body: unknown): void {
  const fits = read(schema);
  if (fits.safeParse(body).success) return;
  const fields = problemsOf(fits, body, 'body');
  throw new Problem('invalid-input', fields[0]?.problem ?? 'The body does not fit.', { fields });
}
