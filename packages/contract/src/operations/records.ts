import type { Json } from '@orchard/core';
import { z } from 'zod';
import {
  ENVIRONMENT,
  actor,
  collectionName,
  environmentParams,
  jsonObject,
  listQuery,
  nothing,
  operation,
  page,
  recordId,
  time,
  uuid,
} from '../common.js';
import type { Caller } from '../operation.js';
import { problemSchema } from '../problems.js';

const systemMembers = { id: recordId, createdAt: time, updatedAt: time, version: z.int(), ownerId: uuid.nullable() };
export const record = z.looseObject(systemMembers).meta({
  id: 'Record',
  description:
    'System members, and one member per field of the collection; a field without a value is null. With `include`, `_included` holds the included records',
});
export type OrchardRecord = z.infer<typeof record>;
/**
 * A record, possibly with only the requested fields. To TypeScript it is whole: the caller knows which fields it requested.
 */
export const recordPart = z
  .looseObject({ ...systemMembers, createdAt: time.optional(), updatedAt: time.optional(), ownerId: uuid.nullable().optional() })
  .meta({
    id: 'RecordPart',
    description: 'A record; with `fields`, only those members and always `id` and `version`',
  }) as unknown as typeof record;
const json = z.custom<Json>(() => true).meta({});

const INCLUDE =
  'References to include: `hut`, `hut.warden`, and `bookings(hut)` for the bookings whose `hut` refers to this record; at most 3 deep';
const parts = {
  fields: z.string().max(4000).optional().describe('Comma-separated field names; `id` and `version` are always included'),
  include: z.string().max(400).optional().describe(INCLUDE),
};
const flag = z.stringbool().optional();
const EXCERPTS =
  'With a filter that searches: `_excerpts` of each record holds the parts of its texts where words were found, as `field`, `text` and `marks`, the stretches of `text` in UTF-16 units';
const recordList = listQuery.extend({
  filter: z.string().max(16_000).optional().describe('A condition in CQL2, text or JSON'),
  ...parts,
  count: flag.describe('Whether to count all matching records'),
  excerpts: flag.describe(EXCERPTS),
});
const recordPage = page(recordPart).extend({ count: z.int().optional() });

const SUMMARY = z.strictObject({
  group: z
    .string()
    .max(400)
    .optional()
    .describe(
      'Up to three fields; `:hour`, `:day`, `:week` or `:month` after a date or time: `hut,arrives:week`; after a place, the width of a cell in degrees: `position:0.5`, told by its centre',
    ),
  measure: z.string().max(1000).optional().describe('`count`, and `sum`, `avg`, `min`, `max`, `distinct` with a field: `count,sum:nights`'),
  filter: recordList.shape.filter,
  limit: z.coerce.number().int().min(1).max(1000).default(100),
});
const summary = z
  .object({ groups: z.array(jsonObject), more: z.boolean().describe('Whether there are more groups than the limit') })
  .meta({ id: 'Summary' });

/** The same queries in a body: for filters that are too long for an address. */
const anyFilter = z
  .union([z.string().max(16_000), jsonObject.transform((filter) => JSON.stringify(filter))])
  .optional()
  .describe('A condition in CQL2: text, or JSON as an object');
const asked = {
  filter: anyFilter,
  sort: recordList.shape.sort,
  cursor: recordList.shape.cursor,
  limit: z.int().min(1).max(1000).default(50),
  ...parts,
  count: z.boolean().optional(),
  excerpts: z.boolean().optional(),
};
const listBody = z.strictObject(asked);
const summaryBody = SUMMARY.extend({ filter: anyFilter, limit: z.int().min(1).max(1000).default(100) });
const liveBody = z.strictObject({ filter: anyFilter });

const ifVersion = z.int().min(1).optional().describe('Only over this version');
const batchAction = z.discriminatedUnion('action', [
  z.strictObject({ action: z.literal('create'), record: jsonObject }),
  z.strictObject({ action: z.literal('put'), id: recordId, record: jsonObject, ifVersion }),
  z.strictObject({ action: z.literal('patch'), id: recordId, record: jsonObject, ifVersion }),
  z.strictObject({ action: z.literal('delete'), id: recordId, ifVersion }),
]);
export type BatchAction = z.output<typeof batchAction>;
const batch = z.strictObject({
  together: z.boolean().default(true).describe('All or nothing; otherwise each action on its own'),
  actions: z.array(batchAction).min(1).max(1000, 'At most 1,000 actions.'),
});
const NEW = '`{"_new": "<name>"}` as the value of a reference stands for a record that an earlier action created under this name';
const as = z
  .string()
  .regex(/^[a-z][A-Za-z0-9_]{0,30}$/, 'A small letter, then up to 30 letters, digits or _.')
  .optional()
  .describe('Names the new record for later actions of the call');
const collection = collectionName;
const acrossAction = z.discriminatedUnion('action', [
  z.strictObject({ action: z.literal('create'), collection, as, record: jsonObject }),
  z.strictObject({ action: z.literal('put'), collection, id: recordId, record: jsonObject, ifVersion }),
  z.strictObject({ action: z.literal('patch'), collection, id: recordId, record: jsonObject, ifVersion }),
  z.strictObject({ action: z.literal('delete'), collection, id: recordId, ifVersion }),
]);
export type AcrossAction = z.output<typeof acrossAction>;
const acrossBatch = z.strictObject({
  actions: z.array(acrossAction).min(1).max(1000, 'At most 1,000 actions.').describe(`In their order, all or nothing. ${NEW}`),
});
const batchResult = z
  .object({ status: z.int(), id: recordId.optional(), version: z.int().optional(), problem: problemSchema.optional() })
  .meta({ id: 'BatchResult' });
export type BatchResult = z.output<typeof batchResult>;

const recordVersion = z
  .object({
    entry: z.int().describe('Names this version, to restore it'),
    version: z.int(),
    action: z.enum(['create', 'update', 'delete']),
    at: time,
    by: actor,
    changes: z.array(z.object({ field: z.string(), from: json, to: json })),
  })
  .meta({ id: 'RecordVersion' });
export type RecordVersion = z.output<typeof recordVersion>;

const liveEvent = z.looseObject({}).meta({
  id: 'LiveEvent',
  description:
    'Events of a filter: `ready`, then `entered`, `changed` (with `record`) and `left` (with `id`). Of one record: `current` or `absent`, then `created`, `changed`, `deleted`. `reset` where events since Last-Event-ID are no longer kept',
});

const refusals = [
  'collection-unknown',
  'access-refused',
  'not-found',
  'outside-unavailable',
  'outside-changed',
  'outside-unsupported',
  'refused-by-function',
  'function-failed',
  'function-stopped',
] as const;
const writeRefusals = [
  ...refusals,
  'version-conflict',
  'invalid-input',
  'already-exists',
  'still-referenced',
  'limit-passed',
  'key-reused',
  'hooks-too-deep',
] as const;
type Names = {
  collection: string;
  record: string;
  batch: string;
  summary: string;
  live: string;
  liveOne: string;
  history: string;
  restore: string;
  /** Queries with a body are below this path. */
  queries: string;
};
type Callers = { read: Caller; write: Caller; history: Caller; restore: Caller };

const VERSION = { ETag: 'The version of the record, in quotes, for `If-Match`' };

/** The calls on records, for a path and a kind of caller. */
function recordCalls<C extends z.ZodObject, R extends z.ZodObject>(
  group: string,
  path: Names,
  callers: Callers,
  inCollection: C,
  oneRecord: R,
) {
  const reading = { caller: callers.read };
  const writing = { caller: callers.write, retrySafe: true };
  return {
    create: operation({
      id: `${group}.create`,
      changes: 'record',
      command: 'record add <json>',
      library: 'collection({collection}).create({body})',
      replyHeaders: { ...VERSION, Location: 'The address of the record' },
      method: 'POST',
      path: path.collection,
      summary: 'Store a record',
      ...writing,
      params: inCollection,
      body: jsonObject,
      status: 201,
      reply: recordPart,
      problems: [...writeRefusals],
    }),
    list: operation({
      id: `${group}.list`,
      command: 'record list',
      library: 'collection({collection}).list({query})',
      replyHeaders: { Link: 'The next page, as `rel="next"` (RFC 8288); absent on the last one' },
      method: 'GET',
      path: path.collection,
      summary: 'Records the caller may read',
      ...reading,
      params: inCollection,
      query: recordList,
      reply: recordPage,
      problems: [...refusals, 'malformed-filter'],
    }),
    read: operation({
      id: `${group}.read`,
      command: 'record show',
      library: 'collection({collection}).read({id})',
      replyHeaders: VERSION,
      notModified: true,
      method: 'GET',
      path: path.record,
      summary: 'One record',
      ...reading,
      params: oneRecord,
      query: z.strictObject(parts),
      reply: recordPart,
      requestHeaders: ['If-None-Match'],
      problems: [...refusals],
    }),
    put: operation({
      id: `${group}.put`,
      changes: 'record',
      command: 'record put <json>',
      library: 'collection({collection}).put({id}, {body})',
      replyHeaders: VERSION,
      method: 'PUT',
      path: path.record,
      summary: 'Replace a record, or create it',
      ...writing,
      params: oneRecord,
      body: jsonObject,
      status: 200,
      alsoStatus: 201,
      reply: recordPart,
      requestHeaders: ['If-Match', 'If-None-Match'],
      problems: [...writeRefusals],
    }),
    patch: operation({
      id: `${group}.patch`,
      changes: 'record',
      command: 'record change <json>',
      library: 'collection({collection}).change({id}, {body})',
      replyHeaders: VERSION,
      method: 'PATCH',
      path: path.record,
      summary: 'Change some fields (merge patch)',
      ...writing,
      params: oneRecord,
      body: jsonObject,
      reply: recordPart,
      requestHeaders: ['If-Match'],
      problems: [...writeRefusals],
    }),
    remove: operation({
      id: `${group}.remove`,
      changes: 'record',
      command: 'record delete',
      library: 'collection({collection}).remove({id})',
      method: 'DELETE',
      path: path.record,
      summary: 'Delete a record',
      ...writing,
      params: oneRecord,
      status: 204,
      reply: nothing,
      requestHeaders: ['If-Match'],
      problems: [...writeRefusals],
    }),
    batch: operation({
      id: `${group}.batch`,
      changes: 'record',
      method: 'POST',
      path: path.batch,
      summary: 'Up to 1,000 actions in one call',
      ...writing,
      params: inCollection,
      body: batch,
      bodyLimit: 16_000_000,
      reply: z.object({ results: z.array(batchResult).describe('One for each action, in their order') }),
      problems: [...writeRefusals],
    }),
    summary: operation({
      id: `${group}.summary`,
      command: 'record summary',
      library: 'collection({collection}).summary({query})',
      method: 'GET',
      path: path.summary,
      summary: 'Counts and measures of groups of records',
      ...reading,
      params: inCollection,
      query: SUMMARY,
      reply: summary,
      problems: [...refusals, 'malformed-filter'],
    }),
    live: operation({
      id: `${group}.live`,
      command: 'record watch',
      library: 'collection({collection}).watch({query}, (event) => console.log(event))',
      method: 'GET',
      path: path.live,
      summary: 'Records that enter, change in or leave a filter, as events',
      ...reading,
      params: inCollection,
      query: z.strictObject({ filter: recordList.shape.filter }),
      stream: true,
      requestHeaders: ['Last-Event-ID'],
      reply: liveEvent,
      problems: [...refusals, 'malformed-filter'],
    }),
    liveOne: operation({
      id: `${group}.liveOne`,
      method: 'GET',
      path: path.liveOne,
      summary: 'One record as it changes, also before it exists',
      ...reading,
      params: oneRecord,
      stream: true,
      requestHeaders: ['Last-Event-ID'],
      reply: liveEvent,
      problems: [...refusals],
    }),
    query: operation({
      id: `${group}.query`,
      changes: 'nothing',
      method: 'POST',
      path: path.queries,
      summary: 'Records the caller may read, requested with a body',
      ...reading,
      params: inCollection,
      body: listBody,
      reply: recordPage,
      problems: [...refusals, 'malformed-filter'],
    }),
    querySummary: operation({
      id: `${group}.querySummary`,
      changes: 'nothing',
      method: 'POST',
      path: `${path.queries}/summary`,
      summary: 'Counts and measures of groups of records, requested with a body',
      ...reading,
      params: inCollection,
      body: summaryBody,
      reply: summary,
      problems: [...refusals, 'malformed-filter'],
    }),
    queryLive: operation({
      id: `${group}.queryLive`,
      changes: 'nothing',
      method: 'POST',
      path: `${path.queries}/live`,
      summary: 'Records that enter, change in or leave a filter, requested with a body',
      ...reading,
      params: inCollection,
      body: liveBody,
      stream: true,
      requestHeaders: ['Last-Event-ID'],
      reply: liveEvent,
      problems: [...refusals, 'malformed-filter'],
    }),
    history: operation({
      id: `${group}.history`,
      command: 'record history',
      method: 'GET',
      path: path.history,
      summary: 'The versions of a record in the last 30 days, latest first',
      caller: callers.history,
      params: oneRecord,
      query: z.strictObject({ before: z.coerce.number().int().min(1).optional().describe('Only versions before this entry') }),
      reply: z.object({ items: z.array(recordVersion), more: z.boolean() }),
      problems: ['collection-unknown'],
    }),
    restore: operation({
      id: `${group}.restore`,
      changes: 'record',
      command: 'record restore <entry>',
      method: 'POST',
      path: path.restore,
      summary: 'Restore an earlier version',
      caller: callers.restore,
      params: oneRecord,
      body: z.strictObject({ entry: z.int().min(1) }),
      reply: recordPart,
      problems: [...writeRefusals],
    }),
  };
}

const inCollection = z.object({ collection: collectionName });
const reading = { kind: 'app', user: 'optional', scope: 'records:read' } as const;
const writing = { kind: 'app', user: 'optional', scope: 'records:write' } as const;
export const recordOperations = recordCalls(
  'records',
  {
    collection: '/app/v1/data/{collection}',
    record: '/app/v1/data/{collection}/{id}',
    batch: '/app/v1/data/{collection}/batch',
    summary: '/app/v1/summaries/{collection}',
    live: '/app/v1/live/{collection}',
    liveOne: '/app/v1/live/{collection}/{id}',
    history: '/app/v1/history/{collection}/{id}',
    restore: '/app/v1/history/{collection}/{id}',
    queries: '/app/v1/queries/{collection}',
  },
  {
    read: reading,
    write: writing,
    history: { kind: 'server', scope: 'records:read' },
    restore: { kind: 'server', scope: 'records:write' },
  },
  inCollection,
  inCollection.extend({ id: recordId }),
);

const managed = environmentParams.extend({ collection: collectionName });
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const MANAGED = `${ENVIRONMENT}/collections/{collection}`;
const across = {
  changes: 'record',
  method: 'POST',
  summary: 'Up to 1,000 actions on several collections, all or nothing',
  body: acrossBatch,
  bodyLimit: 16_000_000,
  retrySafe: true,
  reply: z.object({ results: z.array(batchResult).describe('One for each action, in their order') }),
} as const;
export const batchOperations = {
  app: operation({
    ...across,
    id: 'batches.app',
    library: 'batch({body.actions})',
    path: '/app/v1/batch',
    caller: writing,
    problems: [...writeRefusals],
  }),
  managed: operation({
    ...across,
    id: 'batches.managed',
    command: 'record write <json>',
    path: `${ENVIRONMENT}/batch`,
    caller: developer,
    params: environmentParams,
    problems: [...writeRefusals],
  }),
};
export const managedRecordOperations = recordCalls(
  'managedRecords',
  {
    collection: `${MANAGED}/records`,
    record: `${MANAGED}/records/{id}`,
    batch: `${MANAGED}/records/batch`,
    summary: `${MANAGED}/summary`,
    live: `${MANAGED}/live`,
    liveOne: `${MANAGED}/live/{id}`,
    history: `${MANAGED}/history/{id}`,
    restore: `${MANAGED}/history/{id}`,
    queries: `${MANAGED}/queries`,
  },
  { read: viewer, write: developer, history: viewer, restore: developer },
  managed,
  managed.extend({ id: recordId }),
);
