/** Sync: what a device keeps at hand is pulled, and what it changed offline is pushed. docs/sync.md has the protocol as a whole. */
import { FIELD_TYPES, type Json, MERGE_POLICIES, STARTERS } from '@orchard/core/words';
import { z } from 'zod';
import {
  collectionName,
  deviceId,
  ENVIRONMENT,
  environmentParams,
  jsonObject,
  listQuery,
  operation,
  page,
  recordId,
  slug,
  time,
  uuid,
} from '../common.js';
import { problemSchema } from '../problems.js';
import { recordPart } from './records.js';

const json = z.custom<Json>(() => true).meta({});
/** The most changes of a call. */
export const SYNC_LIMIT = 1_000;
const number = z.int().min(0);

const range = z.strictObject({
  until: recordId.nullable().describe('The last id of the range; null for the last range'),
  count: z.int().min(0),
  digest: z.string().regex(/^[0-9a-f]{16}$/, 'Sixteen hexadecimal digits.'),
});
const scope = z.strictObject({
  collection: collectionName,
  filter: z.string().max(16_000).optional().describe('A condition in CQL2; without it, all records that the caller may read'),
  at: number
    .optional()
    .describe('The number of the change feed up to which the device has the scope; absent to fill it from the beginning'),
  fill: z.string().max(4_000).optional().describe('Where a fill goes on, as the former response said; with its `at`'),
  names: z.boolean().optional().describe('Only ids and versions of what changed, instead of records'),
  ids: z.array(recordId).max(SYNC_LIMIT).optional().describe('These records alone, as they are now'),
  ranges: z.array(range).max(5_000).optional().describe('What the device holds, to find where it differs'),
  shape: z.string().max(40).optional().describe('The `shape` that the device knows'),
});
export type SyncScope = z.input<typeof scope>;

const held = z.tuple([recordId, z.int()]).describe('Id and version');
const shape = z.object({
  name: z.string().describe('Names this shape: sent back as `shape`'),
  fields: z.record(z.string(), z.enum(FIELD_TYPES)),
  references: z.record(z.string(), z.string()).describe('Reference fields with the collections they refer to'),
  merge: z.record(z.string(), z.enum(MERGE_POLICIES)),
  defaults: z.record(z.string(), json).describe('Values of fields that a new record does not name; `now()` for the time it is made'),
});
const scopeChanges = z
  .object({
    scope: z.int().describe('Which of the scopes that were sent, from 0'),
    at: number.optional().describe('Of a fill: to be sent back with `fill`, and afterwards'),
    fill: z.string().optional().describe('The fill goes on from here'),
    records: z.array(recordPart).optional(),
    gone: z.array(recordId).optional().describe('No longer in the scope, deleted, or not readable any more'),
    changed: z.array(held).optional().describe('With `names`'),
    differing: z
      .array(z.object({ range: z.int(), held: z.array(held) }))
      .optional()
      .describe('Ranges that differ, with all that the service has in them'),
    anew: z.literal(true).optional().describe('The changes since `at` are no longer kept: fill the scope from the beginning'),
    outside: z
      .literal(true)
      .optional()
      .describe('A table of another server: it has no change feed, so it is filled again to be up to date'),
    shape: shape.optional().describe('Where the device does not know it'),
    problem: problemSchema.optional().describe('Why there is nothing of this scope'),
  })
  .meta({ id: 'SyncScopeChanges' });
export type SyncScopeChanges = z.output<typeof scopeChanges>;

const pull = z.strictObject({
  scopes: z.array(scope).min(1).max(100),
  limit: z.int().min(1).max(SYNC_LIMIT).default(SYNC_LIMIT).describe('Most records of the response'),
  pending: z.int().min(0).optional().describe('Changes that wait on the device, for its page'),
  conflicts: z.int().min(0).optional().describe('Conflicts that are not settled on the device'),
});
const pulled = z
  .object({
    at: number.describe('What is sent holds everything up to this number of the change feed, for scopes that are not being filled'),
    more: z.boolean().describe('Whether there is more: pull again at once'),
    scopes: z.array(scopeChanges).describe('Those with something to say'),
  })
  .meta({ id: 'SyncPulled' });
export type SyncPulled = z.output<typeof pulled>;

const own = { id: uuid.describe('Of the change: sent again, it counts once'), collection: collectionName, record: recordId };
const pendingChange = z.discriminatedUnion('action', [
  z.strictObject({ ...own, action: z.literal('create'), fields: jsonObject }),
  z.strictObject({
    ...own,
    action: z.literal('change'),
    fields: jsonObject.describe('Values of whole fields; `_add`, `_put` and `_drop` as in a change of a record'),
    seen: jsonObject.describe('The values that the device saw of these fields'),
    version: z.int().min(0).describe('The version it saw'),
  }),
  z.strictObject({ ...own, action: z.literal('remove'), version: z.int().min(0) }),
]);
export type PushedChange = z.output<typeof pendingChange>;

const conflict = z.object({ field: z.string(), device: json, service: json, kept: json }).meta({ id: 'FieldConflict' });
const outcome = z
  .object({
    id: uuid,
    status: z.enum(['taken', 'refused']),
    version: z.int().optional().describe('Of the record now; absent where it is gone'),
    conflicts: z.array(conflict).optional().describe('Fields that were changed on both sides'),
    problem: problemSchema.optional(),
  })
  .meta({ id: 'SyncOutcome' });
export type SyncOutcome = z.output<typeof outcome>;
const pushed = z
  .object({
    results: z.array(outcome).describe('In the order of the changes'),
    records: z
      .array(z.object({ collection: z.string(), record: recordPart }))
      .describe('The records that were written, as they are now, where the caller may read them'),
  })
  .meta({ id: 'SyncPushed' });
export type SyncPushed = z.output<typeof pushed>;

const deviceSync = z
  .object({
    device: deviceId,
    userId: uuid.nullable(),
    client: z.string().nullable(),
    appVersion: z.string(),
    at: time.describe('When it last pulled or pushed'),
    number: number.describe('Up to which number of the change feed it has its scopes'),
    behind: z.int().describe('How many changes of the environment came after that'),
    pending: z.int().nullable().describe('Changes that wait on the device, as it said; null where it did not say'),
    conflicts: z.int().nullable(),
    scopes: z.int(),
    taken: z.int().describe('Changes of it that were taken so far'),
    refused: z.int(),
    problem: z.string().nullable().describe('Of its last pull or push that failed for it'),
  })
  .meta({ id: 'DeviceSync' });
export type DeviceSync = z.output<typeof deviceSync>;

const calling = { requestHeaders: ['Orchard-Device', 'Orchard-Device-Secret'], rate: 'sync' as const };

export const syncOperations = {
  pull: operation({
    id: 'sync.pull',
    method: 'POST',
    path: '/app/v1/sync/pull',
    summary: 'What changed in the scopes of a device',
    caller: { kind: 'app', user: 'optional', scope: 'records:read' },
    ...calling,
    bodyLimit: 4_000_000,
    packed: true,
    body: pull,
    reply: pulled,
    problems: ['access-refused', 'not-found'],
  }),
  push: operation({
    id: 'sync.push',
    method: 'POST',
    path: '/app/v1/sync/push',
    summary: 'Bring changes that were made offline, each taken or refused by itself',
    caller: { kind: 'app', user: 'optional', scope: 'records:write' },
    ...calling,
    bodyLimit: 16_000_000,
    body: z.strictObject({ changes: z.array(pendingChange).min(1).max(SYNC_LIMIT, 'At most 1,000 changes.') }),
    reply: pushed,
    problems: ['access-refused', 'not-found', 'hooks-too-deep', 'function-failed', 'function-stopped'],
  }),
  types: operation({
    id: 'sync.types',
    method: 'GET',
    path: `${ENVIRONMENT}/types`,
    summary: 'Collections, user fields and endpoints as types of TypeScript, for the client library',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams,
    reply: z.object({
      text: z.string().describe('TypeScript'),
      expects: z.record(z.string(), z.record(z.string(), z.string())).describe('Types of fields, by collection; of users under `users`'),
    }),
  }),
  starter: operation({
    id: 'sync.starter',
    method: 'GET',
    path: `${ENVIRONMENT}/starters/{starter}`,
    summary: 'A small app or program that runs as it is, with the address and a client key filled in',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams.extend({ starter: z.enum(STARTERS) }),
    query: z.strictObject({ client: slug.describe('Whose key is filled in') }),
    reply: z.string(),
    replyTypes: ['application/zip'],
    problems: ['not-found'],
  }),
  devices: operation({
    id: 'sync.devices',
    command: 'sync list',
    method: 'GET',
    path: `${ENVIRONMENT}/syncs`,
    summary: 'Devices that sync, and how far they are',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams,
    query: listQuery,
    reply: page(deviceSync),
    problems: ['malformed-filter'],
  }),
  device: operation({
    id: 'sync.device',
    command: 'sync show',
    method: 'GET',
    path: `${ENVIRONMENT}/syncs/{device}`,
    summary: 'How far one device is',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams.extend({ device: deviceId }),
    reply: deviceSync,
    problems: ['not-found'],
  }),
};
