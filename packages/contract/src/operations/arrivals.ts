/**
 * Environments that arrive from another installation. An owner makes a ticket; whoever has it may bring one environment here.
 * What comes first is a backup, in the format of backups (see backupArchive.ts); then rows that changed since, as often as it
 * takes; at the end, while writes are held over there, what is left.
 */
import { z } from 'zod';
import { COLUMN_FORMS } from '../backupArchive.js';
import { actor, nothing, operation, slug, time, uuid } from '../common.js';

const owner = { kind: 'member', role: 'owner' } as const;
/** By the ticket, in `Authorization: Bearer` (RFC 6750 section 2.1). */
const bearer = { kind: 'anyone' } as const;
const AT = '/arrivals/v1';
const BYTES = ['application/octet-stream'];

const state = z
  .enum(['awaited', 'receiving', 'loading', 'ready', 'arrived', 'failed', 'given-up'])
  .describe('`ready`: the tables are there, and take the rows that changed since');

const arrival = z
  .object({
    id: uuid,
    state,
    app: slug.nullable(),
    environment: slug.nullable(),
    by: actor,
    at: time,
    expiresAt: time.describe('Until then it has to begin'),
    endedAt: time.nullable(),
    doing: z.string().nullable(),
    problem: z.string().nullable(),
    notes: z.array(z.string()),
  })
  .meta({ id: 'Arrival' });
export type ArrivalDocument = z.output<typeof arrival>;

const progress = z.object({ state, doing: z.string().nullable(), problem: z.string().nullable() });
export type ArrivalProgress = z.output<typeof progress>;

/** Names of tables and columns stand in SQL between backticks. */
const name = z.string().regex(/^[^`\\\0]{1,64}$/, 'A name of a table or column, without backtick and backslash.');
const value = z.union([z.string(), z.number(), z.null(), z.strictObject({ base64: z.string() })]);
const changedRows = z.strictObject({
  table: name,
  key: z.array(name).min(1).describe('The columns of the primary key'),
  columns: z.array(z.strictObject({ name, form: z.enum(COLUMN_FORMS) })).min(1),
  keys: z.array(z.array(value)).describe('Of the rows that changed; those that are not among the rows are gone'),
  rows: z.array(z.array(value)),
});
export type ChangedRows = z.output<typeof changedRows>;

const digest = z.string().regex(/^[0-9a-f]{64}$/);
const path = z
  .string()
  .max(300)
  .regex(/^[a-z0-9-][a-z0-9.-]*(\/[a-z0-9-][a-z0-9.-]*)*$/, 'A path of an archive: names of small letters, digits, dots and hyphens.');

export const arrivalOperations = {
  begin: operation({
    id: 'arrivals.begin',
    changes: 'environment',
    confirmed: true,
    method: 'POST',
    path: '/manage/v1/arrivals',
    summary: 'Make a ticket with which one environment may move here from another installation; it is shown this once',
    caller: owner,
    status: 201,
    reply: arrival.extend({ ticket: z.string() }),
  }),
  list: operation({
    id: 'arrivals.list',
    command: 'env arrivals',
    method: 'GET',
    path: '/manage/v1/arrivals',
    summary: 'Environments that moved here from other installations, and tickets for it, the newest first',
    caller: owner,
    reply: z.object({ items: z.array(arrival) }),
  }),
  remove: operation({
    id: 'arrivals.remove',
    changes: 'environment',
    method: 'DELETE',
    path: '/manage/v1/arrivals/{arrival}',
    summary: 'Take a ticket back, or give up an arrival that has not ended: nothing of it stays',
    caller: owner,
    params: z.object({ arrival: uuid }),
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
  announce: operation({
    id: 'arrivals.announce',
    method: 'PUT',
    path: `${AT}/announcement`,
    summary: 'Say which environment comes',
    caller: bearer,
    body: z.strictObject({
      app: slug,
      environment: slug,
      id: z.string().regex(/^[a-z2-7]{8,40}$/),
      migration: z.int().describe('Of the newest migration of its tables, in milliseconds since 1970'),
    }),
    reply: progress,
    problems: ['arrival-refused', 'already-exists', 'wrong-state'],
  }),
  state: operation({
    id: 'arrivals.state',
    method: 'GET',
    path: `${AT}/state`,
    summary: 'How far it is',
    caller: bearer,
    reply: progress,
    problems: ['arrival-refused'],
  }),
  files: operation({
    id: 'arrivals.files',
    method: 'GET',
    path: `${AT}/archive`,
    summary: 'What has come of a folder of the archive',
    caller: bearer,
    query: z.strictObject({ folder: path }),
    reply: z.object({ items: z.array(z.string()) }),
    problems: ['arrival-refused'],
  }),
  writeFile: operation({
    id: 'arrivals.writeFile',
    method: 'PUT',
    path: `${AT}/archive/{path...}`,
    summary: 'A file of the archive',
    caller: bearer,
    params: z.object({ path }),
    rawBody: BYTES,
    status: 204,
    reply: nothing,
    problems: ['arrival-refused', 'wrong-state', 'backup-place-unusable'],
  }),
  load: operation({
    id: 'arrivals.load',
    method: 'POST',
    path: `${AT}/load`,
    summary: 'The archive is whole: make the tables from it',
    caller: bearer,
    body: z.strictObject({ backup: uuid }),
    status: 202,
    reply: progress,
    problems: ['arrival-refused', 'wrong-state', 'backup-unreadable', 'not-found'],
  }),
  changes: operation({
    id: 'arrivals.changes',
    method: 'POST',
    path: `${AT}/changes`,
    summary: 'Rows that changed since the archive',
    caller: bearer,
    bodyLimit: 64_000_000,
    body: z.strictObject({ tables: z.array(changedRows).max(1000) }),
    status: 204,
    reply: nothing,
    problems: ['arrival-refused', 'wrong-state'],
  }),
  missing: operation({
    id: 'arrivals.missing',
    method: 'POST',
    path: `${AT}/contents`,
    summary: 'Which of these contents of files are not here',
    caller: bearer,
    body: z.strictObject({ digests: z.array(digest).max(10_000) }),
    reply: z.object({ missing: z.array(digest) }),
    problems: ['arrival-refused', 'wrong-state'],
  }),
  content: operation({
    id: 'arrivals.content',
    method: 'PUT',
    path: `${AT}/contents/{digest}`,
    summary: 'The content of files, by its SHA-256',
    caller: bearer,
    params: z.object({ digest }),
    rawBody: BYTES,
    status: 204,
    reply: nothing,
    problems: ['arrival-refused', 'wrong-state', 'storage-full', 'upload-broken', 'content-damaged'],
  }),
  finish: operation({
    id: 'arrivals.finish',
    method: 'POST',
    path: `${AT}/finish`,
    summary: 'Everything is here: from now on the environment lives here',
    caller: bearer,
    bodyLimit: 16_000_000,
    body: z.strictObject({
      setup: z.array(z.string()).describe('What the other installation holds of it, as in a backup'),
      counts: z.array(z.strictObject({ table: name, rows: z.int() })).describe('Of small tables: they are counted here too'),
    }),
    reply: progress,
    problems: ['arrival-refused', 'wrong-state', 'already-exists'],
  }),
  giveUp: operation({
    id: 'arrivals.giveUp',
    method: 'POST',
    path: `${AT}/give-up`,
    summary: 'Nothing comes of it: what is here goes, unless the environment lives here already',
    caller: bearer,
    reply: progress,
    problems: ['arrival-refused'],
  }),
};
