/** How a report reads: calls of members, made with the rights of whoever reads the report. */
import type { AnyOperation, ReplyOf } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import type { Reader, ReadInput } from '../../platform/ports.js';
import type { Parts } from './parts.js';

export type Period = { from: number; until: number /** IANA. */; zone: string };
/** Makes a call in the environment of the report. */
export type Ask = <O extends AnyOperation>(operation: O, input: ReadInput) => Promise<ReplyOf<O>>;

export const askerFor =
  ({ ports }: Parts, reader: Reader, environment: Environment): Ask =>
  (operation, input) =>
    ports.readAs(operation, reader, environment, input);

export const inIso = ({ from, until }: Pick<Period, 'from' | 'until'>) => ({
  from: new Date(from).toISOString(),
  until: new Date(until).toISOString(),
});
