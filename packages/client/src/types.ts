/** The contract's operations as the library calls them. */
import type { BodyInputOf, operations, ParamsOf, QueryInputOf, ReplyOf } from '@orchard/contract';
import type { CALLS } from './calls.js';

export type CallId = keyof typeof CALLS;
type Operations = typeof operations;
export type OperationOf<Id> = Id extends `${infer Group extends keyof Operations & string}.${infer Name}`
  ? Name extends keyof Operations[Group]
    ? Operations[Group][Name]
    : never
  : never;

type Part<Name extends string, V> = [V] extends [undefined]
  ? { [K in Name]?: undefined }
  : [V] extends [never]
    ? { [K in Name]?: undefined }
    : Record<string, never> extends V
      ? { [K in Name]?: V }
      : { [K in Name]: V };
export type InputOf<Id> = Part<'params', ParamsOf<OperationOf<Id>>> &
  Part<'query', QueryInputOf<OperationOf<Id>>> &
  Part<'body', BodyInputOf<OperationOf<Id>>>;
export type ReplyTo<Id> = ReplyOf<OperationOf<Id>>;
export type BodyTo<Id> = BodyInputOf<OperationOf<Id>>;
