/** What this room asks of rooms above it. */
import type { Use } from '@orchard/contract';
import type { DocumentedCall } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { CallRefused } from './callRefused.js';
import type { Reaching } from './reaching.js';

export type FunctionPorts = {
  /** The value of a secret. @throws {CallRefused} where there is none */
  secret: (environment: Environment, name: string) => Promise<string>;
  /** Which functions used which collections and upstreams, by their runs. */
  uses: (environment: Environment, since: Date) => Promise<Use[]>;
  /** Method and path of each endpoint in force, such as `GET huts/{id}`. */
  endpoints: (environment: Environment) => Promise<string[]>;
  /** Further addresses of the team that apps call. */
  addresses: (environment: Environment) => Promise<DocumentedCall[]>;
  /** What else functions can reach, as types of TypeScript. */
  types: (environment: Environment) => Promise<string>;
  /** Reads and writes files for a function. @param work what it does with them @throws {CallRefused, Problem} */
  files: (at: Reaching, work: string, given: unknown[]) => Promise<unknown>;
  /** Calls an upstream for a function. @throws {CallRefused, Problem} */
  upstream: (at: Reaching, upstream: string, path: string, options: unknown) => Promise<unknown>;
};
export const emptyFunctionPorts = (): FunctionPorts => ({
  secret: async (_environment, name) => {
    throw new CallRefused(`There is no secret ${name}.`);
  },
  uses: async () => [],
  endpoints: async () => [],
  addresses: async () => [],
  types: async () => 'interface Upstreams {}',
  files: async () => {
    throw new CallRefused('There are no files.');
  },
  upstream: async (_at, upstream) => {
    throw new CallRefused(`There is no upstream ${upstream}.`);
  },
});
