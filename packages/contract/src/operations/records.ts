import { ACCESS_RULES, type AccessRule, FIELD_TYPES, readAccessRule } from '@orchard/core';
import { z } from 'zod';
import {
  collectionName,
  ENVIRONMENT,
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

const systemMembers = { id: recordId, createdAt: time, updatedAt: time, version: z.int(), ownerId: uuid.nullable() };
export const record = z
  .looseObject(systemMembers)
  .meta({ id: 'Record', description: 'System members, and one member per field of the collection; a field without a value is null' });
export type OrchardRecord = z.infer<typeof record>;

const recordList = listQuery.extend({
  fields: z.string().max(4000).optional().describe('Comma-separated field names to answer; `id` and `version` always come'),
});
const inCollection = z.object({ collection: collectionName });
const oneRecord = inCollection.extend({ id: recordId });
const managedCollection = environmentParams.extend({ collection: collectionName });
const managedRecord = managedCollection.extend({ id: recordId });
const DATA = '/app/v1/data/{collection}';
const MANAGED = `${ENVIRONMENT}/collections/{collection}/records`;
const reading = { kind: 'app', user: 'optional', scope: 'records:read' } as const;
const writing = { kind: 'app', user: 'optional', scope: 'records:write' } as const;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const refusals = ['collection-unknown', 'access-refused', 'not-found'] as const;
const writeRefusals = [...refusals, 'version-conflict', 'invalid-input'] as const;

const ruleTexts = Object.keys(ACCESS_RULES).join('   ');
const accessRule = z
  .string()
  .transform((text, context): AccessRule => {
    const rule = readAccessRule(text);
    if (!rule) context.addIssue({ code: 'custom', message: `One of: ${ruleTexts}` });
    return rule ?? 'FALSE';
  })
  .meta({ description: `One of: ${ruleTexts}` });
const rules = { read: accessRule, create: accessRule, update: accessRule, delete: accessRule };

export const collection = z
  .object({
    name: z.string(),
    fields: z.array(z.object({ name: z.string(), type: z.enum(FIELD_TYPES) })),
    rules: z.object({ read: z.string(), create: z.string(), update: z.string(), delete: z.string() }),
    records: z.int().describe('Number of records; an estimate above 100,000'),
    createdAt: time,
  })
  .meta({ id: 'Collection' });
export type Collection = z.infer<typeof collection>;

const create = { body: jsonObject, status: 201, reply: record, problems: [...writeRefusals, 'already-exists'] } as const;
const put = {
  body: jsonObject,
  status: 200,
  alsoStatus: 201,
  reply: record,
  requestHeaders: ['If-Match', 'If-None-Match'],
  problems: [...writeRefusals],
} as const;
const patch = { body: jsonObject, reply: record, requestHeaders: ['If-Match'], problems: [...writeRefusals] } as const;
const remove = { status: 204, reply: nothing, requestHeaders: ['If-Match'], problems: [...writeRefusals] } as const;
const list = { query: recordList, reply: page(record), problems: [...refusals, 'malformed-filter'] } as const;
const read = {
  query: z.strictObject({ fields: recordList.shape.fields }),
  reply: record,
  requestHeaders: ['If-None-Match'],
  problems: [...refusals],
} as const;

type Mutable<T> = { -readonly [K in keyof T]: T[K] extends readonly (infer E)[] ? E[] : T[K] };
const open = <T extends object>(part: T) => part as unknown as Mutable<T>;

export const recordOperations = {
  create: operation({
    id: 'records.create',
    method: 'POST',
    path: DATA,
    summary: 'Store a record',
    caller: writing,
    params: inCollection,
    ...open(create),
  }),
  list: operation({
    id: 'records.list',
    method: 'GET',
    path: DATA,
    summary: 'Records the caller may read',
    caller: reading,
    params: inCollection,
    ...open(list),
  }),
  read: operation({
    id: 'records.read',
    method: 'GET',
    path: `${DATA}/{id}`,
    summary: 'One record',
    caller: reading,
    params: oneRecord,
    ...open(read),
  }),
  put: operation({
    id: 'records.put',
    method: 'PUT',
    path: `${DATA}/{id}`,
    summary: 'Replace a record, or create it',
    caller: writing,
    params: oneRecord,
    ...open(put),
  }),
  patch: operation({
    id: 'records.patch',
    method: 'PATCH',
    path: `${DATA}/{id}`,
    summary: 'Change some fields (merge patch)',
    caller: writing,
    params: oneRecord,
    ...open(patch),
  }),
  remove: operation({
    id: 'records.remove',
    method: 'DELETE',
    path: `${DATA}/{id}`,
    summary: 'Delete a record',
    caller: writing,
    params: oneRecord,
    ...open(remove),
  }),
};

export const managedRecordOperations = {
  create: operation({
    id: 'managedRecords.create',
    method: 'POST',
    path: MANAGED,
    summary: 'Store a record',
    caller: developer,
    params: managedCollection,
    ...open(create),
  }),
  list: operation({
    id: 'managedRecords.list',
    method: 'GET',
    path: MANAGED,
    summary: 'Records of a collection',
    caller: viewer,
    params: managedCollection,
    ...open(list),
  }),
  read: operation({
    id: 'managedRecords.read',
    method: 'GET',
    path: `${MANAGED}/{id}`,
    summary: 'One record',
    caller: viewer,
    params: managedRecord,
    ...open(read),
  }),
  put: operation({
    id: 'managedRecords.put',
    method: 'PUT',
    path: `${MANAGED}/{id}`,
    summary: 'Replace a record, or create it',
    caller: developer,
    params: managedRecord,
    ...open(put),
  }),
  patch: operation({
    id: 'managedRecords.patch',
    method: 'PATCH',
    path: `${MANAGED}/{id}`,
    summary: 'Change some fields (merge patch)',
    caller: developer,
    params: managedRecord,
    ...open(patch),
  }),
  remove: operation({
    id: 'managedRecords.remove',
    method: 'DELETE',
    path: `${MANAGED}/{id}`,
    summary: 'Delete a record',
    caller: developer,
    params: managedRecord,
    ...open(remove),
  }),
};

export const collectionOperations = {
  list: operation({
    id: 'collections.list',
    method: 'GET',
    path: `${ENVIRONMENT}/collections`,
    summary: 'Collections with their fields, rules and sizes',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(collection) }),
  }),
  create: operation({
    id: 'collections.create',
    method: 'POST',
    path: `${ENVIRONMENT}/collections`,
    summary: 'Make a collection, readable and writable by record owners only',
    caller: developer,
    params: environmentParams,
    body: z.strictObject({
      name: collectionName,
      fields: z
        .array(z.strictObject({ name: collectionName, type: z.enum(FIELD_TYPES) }))
        .max(200)
        .optional(),
      rules: z.strictObject(rules).partial().optional(),
    }),
    status: 201,
    reply: collection,
    problems: ['already-exists'],
  }),
  patch: operation({
    id: 'collections.patch',
    method: 'PATCH',
    path: `${ENVIRONMENT}/collections/{collection}`,
    summary: 'Change access rules, or add fields',
    caller: developer,
    params: managedCollection,
    body: z.strictObject({
      rules: z.strictObject(rules).partial().optional(),
      addFields: z
        .array(z.strictObject({ name: collectionName, type: z.enum(FIELD_TYPES) }))
        .max(200)
        .optional(),
    }),
    reply: collection,
    problems: ['collection-unknown'],
  }),
};
