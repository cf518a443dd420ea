/** How an operation is called with the client library: a template that the operation declares. */
import type { CallInput } from './httpClient.js';
import type { Operation } from './operation.js';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = Operation<any, any, any, any>;

/**
 * The line of code that makes a call, for an `orchard` returned by `connect`. In the template `{name}` is a path parameter;
 * `{query}` and `{body}` are the query and the body.
 * @returns undefined for an operation that the library has no function for
 */
export function libraryCall<O extends Any>({ library }: O, input: CallInput<O>): string | undefined {
  if (!library) return undefined;
  const { params = {}, query, body } = input as { params?: Record<string, unknown>; query?: unknown; body?: unknown };
  const values: Record<string, unknown> = { ...params, query: query ?? {}, body: body ?? {} };
  return `await orchard.${library.replace(/\{(\w+)\}/g, (_, name: string) => JSON.stringify(values[name] ?? `<${name}>`))};`;
}
