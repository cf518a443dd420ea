import { allOperations, type Operation } from '@orchard/contract';

/** One call of a page, in the ways it can be made. */
export type CodedCall = {
  command: string;
  http: string;
  library: string | undefined;
  // biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
  operation: Operation<any, any, any, any>;
  input: unknown;
};

/** The call that an app makes of the same, such as `records.list` of `managedRecords.list`. */
export function twinOf({ id }: Pick<CodedCall['operation'], 'id'>): CodedCall['operation'] | undefined {
  const own = id.replace(/^managed([A-Z])/, (_, first: string) => first.toLowerCase());
  return own === id ? undefined : allOperations.find((one) => one.id === own && one.caller.kind === 'app');
}
