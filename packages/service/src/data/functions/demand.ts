/** What a function hands over, checked by the contract's schemas. */
import type { FieldProblem } from '@orchard/core';
import type { z } from 'zod';
import { problemsOf } from '@orchard/contract/inputProblems';
import { CallRefused } from './callRefused.js';

/** @throws {CallRefused} */
export function demand<Schema extends z.ZodType>(schema: Schema, value: unknown, where: string): z.output<Schema> {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  const [{ path, problem }] = problemsOf(schema, value, where) as [FieldProblem];
  throw new CallRefused(`invalid-input: \`${path}\`: ${problem}`);
}

/** The schema of an operation's body. */
export const bodyOf = <Schema>({ body }: { body?: Schema | undefined }) => body as Schema;
