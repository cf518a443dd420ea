/** Endpoints of the team, and operations of its upstreams. */
import type { Json } from '@orchard/core';
import type { CallOptions, Transport } from './transport.js';
import type { CallId } from './types.js';

type Query = Record<string, string | number | boolean>;
/** Calls below one path. */
export type PathHandle = {
  get: <T = Json>(path: string, query?: Query, options?: CallOptions) => Promise<T>;
  post: <T = Json>(path: string, body?: Json, options?: CallOptions) => Promise<T>;
  put: <T = Json>(path: string, body?: Json, options?: CallOptions) => Promise<T>;
  patch: <T = Json>(path: string, body?: Json, options?: CallOptions) => Promise<T>;
  delete: <T = Json>(path: string, options?: CallOptions) => Promise<T>;
};

export function pathHandle(transport: Transport, group: 'endpoints' | 'upstreamCalls', params: Record<string, string> = {}): PathHandle {
  const run = <T>(method: string, path: string, input: object, options?: CallOptions) =>
    transport.call(`${group}.${method}` as CallId, { params: { ...params, path }, ...input } as never, options) as Promise<T>;
  return {
    get: (path, query = {}, options) => run('get', path, { query }, options),
    post: (path, body, options) => run('post', path, { body }, options),
    put: (path, body, options) => run('put', path, { body }, options),
    patch: (path, body, options) => run('patch', path, { body }, options),
    delete: (path, options) => run('delete', path, {}, options),
  };
}
