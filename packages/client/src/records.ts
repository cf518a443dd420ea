/** Records of one collection at the service. */
import type { BatchAction, BatchResult, LiveEvent, OrchardRecord } from '@orchard/contract';
import { followEvents } from '@orchard/contract/events';
import type { Problem } from './problem.js';
import type { CallOptions, Transport } from './transport.js';
import type { BodyTo, InputOf, ReplyTo } from './types.js';

export type Fields = BodyTo<'records.create'>;
export type ListQuery = NonNullable<InputOf<'records.list'>['query']>;
export type SummaryQuery = NonNullable<InputOf<'records.summary'>['query']>;
export type RecordList<R> = { items: R[]; next?: string | undefined; count?: number | undefined };

/** One collection, as the signed-in user sees it. */
export type ServiceCollection<R = OrchardRecord> = {
  create: (fields: Fields, options?: CallOptions) => Promise<R>;
  read: (id: string, options?: CallOptions & { include?: string }) => Promise<R>;
  list: (query?: ListQuery, options?: CallOptions) => Promise<RecordList<R>>;
  /** Replaces or creates. With `version`, only over that version. */
  put: (id: string, fields: Fields, version?: number, options?: CallOptions) => Promise<R>;
  /** Changes some fields (merge patch). With `version`, only over that version. */
  change: (id: string, fields: Fields, version?: number, options?: CallOptions) => Promise<R>;
  remove: (id: string, version?: number, options?: CallOptions) => Promise<void>;
  /** Up to 1,000 actions: all or nothing, or with `together: false` each on its own. */
  batch: (actions: BatchAction[], together?: boolean) => Promise<BatchResult[]>;
  /** Counts and measures of groups, such as `{ group: 'arrives:week', measure: 'count,sum:nights' }`. */
  summary: (query: SummaryQuery, options?: CallOptions) => Promise<ReplyTo<'records.summary'>>;
  /**
   * Events of one record (`{ id }`) or of a filter, across reconnects, until the returned function is called. `onProblem` is
   * called when the service refuses.
   */
  watch: (
    what: { id: string } | { filter?: string },
    onEvent: (event: LiveEvent) => void,
    onProblem?: (problem: Problem) => void,
  ) => () => void;
};

/** Addresses have room for 16 kB together with all headers; a longer filter is sent in a body. */
const isLong = (filter: string | undefined): boolean => (filter?.length ?? 0) > 2_000;
/** A query as a body, where numbers are numbers. */
const asBody = <Q extends { limit?: unknown; count?: unknown; excerpts?: unknown }>({ limit, count, excerpts, ...query }: Q) => ({
  ...query,
  ...(limit === undefined ? {} : { limit: Number(limit) }),
  ...(count === undefined ? {} : { count: String(count) === 'true' }),
  ...(excerpts === undefined ? {} : { excerpts: String(excerpts) === 'true' }),
});
const over = (version: number | undefined, options: CallOptions = {}): CallOptions =>
  version === undefined ? options : { ...options, headers: { ...options.headers, 'if-match': `"${version}"` } };

export function serviceCollection(transport: Transport, collection: string): ServiceCollection {
  const params = { collection };
  const one = (id: string) => ({ collection, id });
  return {
    create: (body, options) => transport.call('records.create', { params, body }, options),
    read: (id, { include, ...options } = {}) =>
      transport.call('records.read', { params: one(id), query: include ? { include } : {} }, options),
    list: (query = {}, options) =>
      isLong(query.filter)
        ? transport.call('records.query', { params, body: asBody(query) as never }, options)
        : transport.call('records.list', { params, query }, options),
    put: (id, body, version, options) => transport.call('records.put', { params: one(id), body }, over(version, options)),
    change: (id, body, version, options) => transport.call('records.patch', { params: one(id), body }, over(version, options)),
    remove: (id, version, options) => transport.call('records.remove', { params: one(id) }, over(version, options)) as Promise<never>,
    batch: async (actions, together = true) => (await transport.call('records.batch', { params, body: { actions, together } })).results,
    summary: (query, options) =>
      isLong(query.filter)
        ? transport.call('records.querySummary', { params, body: asBody(query) as never }, options)
        : transport.call('records.summary', { params, query }, options),
    watch: (what, onEvent, onProblem) => {
      const open = (headers: Record<string, string>, signal: AbortSignal) =>
        'id' in what
          ? transport.open('records.liveOne', { params: one(what.id) }, { headers, signal })
          : isLong(what.filter)
            ? transport.open('records.queryLive', { params, body: what }, { headers, signal })
            : transport.open('records.live', { params, query: what }, { headers, signal });
      return follow(open, onEvent, onProblem);
    },
  };
}

/** Follows a stream of events, across reconnects. @returns a function that stops */
export function follow(
  open: (headers: Record<string, string>, signal: AbortSignal) => Promise<Response>,
  onEvent: (event: LiveEvent) => void,
  onProblem?: (problem: Problem) => void,
): () => void {
  const stopping = new AbortController();
  followEvents({ open, onEvent, signal: stopping.signal }).catch((error) => onProblem?.(error as Problem));
  return () => stopping.abort();
}
