/** Tables and views of other servers (MariaDB, PostgreSQL), shown as collections. */
import { FIELD_TYPES } from '@orchard/core';
import { z } from 'zod';
import { collectionName, ENVIRONMENT, environmentParams, nothing, operation, slug, time } from '../common.js';
import { collection, rules } from './collections.js';
import { gatewayCheck, trust } from './gateways.js';

export const OUTSIDE_KINDS = ['mariadb', 'postgresql'] as const;
export type OutsideKind = (typeof OUTSIDE_KINDS)[number];

const host = z.string().regex(/^[A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$/, 'A host name or an IPv4 address.');
const column = z.string().min(1).max(128);
const settings = {
  kind: z.enum(OUTSIDE_KINDS),
  host,
  port: z.int().min(1).max(65_535),
  database: z.string().min(1).max(128),
  user: z.string().min(1).max(128),
  tls: z.boolean().default(false),
  trust: trust.optional(),
};
const server = z
  .object({ name: z.string(), ...settings, tls: z.boolean(), check: gatewayCheck.nullable(), createdAt: time, updatedAt: time })
  .meta({ id: 'OutsideServer' });
export type OutsideServer = z.output<typeof server>;

/** What a server shows: tables and views, with their columns. */
const seenTable = z
  .object({
    table: z.string().describe('With its schema, where it has one'),
    view: z.boolean(),
    rows: z.int().nullable().describe('About how many; null where the server does not know'),
    columns: z.array(
      z.object({
        column: z.string(),
        type: z.string().describe('In the server’s words'),
        as: z.enum(FIELD_TYPES).nullable().describe('The type of the field; null for what cannot be shown'),
        unique: z.boolean().describe('It tells rows apart, and has an index'),
        indexed: z.boolean(),
      }),
    ),
  })
  .meta({ id: 'SeenTable' });
export type SeenTable = z.output<typeof seenTable>;

const fieldOf = z.strictObject({
  name: collectionName,
  column,
  type: z.enum(FIELD_TYPES),
  hidden: z.boolean().optional().describe('Not shown to clients'),
});
const definition = {
  server: slug,
  table: z.string().min(1).max(260).describe('With its schema, where it has one: `public.members`'),
  key: column.describe('The column that stands for `id`'),
  version: column.optional().describe('A whole number that grows with each change; without it, a hash of the row stands for `version`'),
  owner: column.optional().describe('The column with the id of the user that a row belongs to'),
  changes: column.optional().describe('A time or number that grows with each change: looked at, so that live readers hear of changes'),
  writable: z.boolean().default(false),
  fields: z.array(fieldOf).min(1).max(200).optional().describe('Which columns are shown, under which names; all that can be, if left out'),
  rules: z.strictObject(rules).partial().optional().describe('Nobody but the team and its servers, if left out'),
};
export type OutsideDefinition = z.output<z.ZodObject<typeof definition>>;

const one = environmentParams.extend({ server: slug });
const table = environmentParams.extend({ collection: collectionName });
const SERVERS = `${ENVIRONMENT}/outside-servers`;
const TABLES = `${ENVIRONMENT}/outside-tables`;
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const AWAY = ['outside-unavailable', 'outside-changed'] as const;

export const outsideOperations = {
  servers: operation({
    id: 'outside.servers',
    command: 'outside-server list',
    method: 'GET',
    path: SERVERS,
    summary: 'Database servers of others, whose tables are shown as collections',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(server) }),
  }),
  addServer: operation({
    id: 'outside.addServer',
    changes: 'outside server',
    method: 'POST',
    path: SERVERS,
    summary: 'Add a database server',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ name: slug, ...settings, password: z.string().max(200) }),
    status: 201,
    reply: server,
    problems: ['already-exists'],
  }),
  changeServer: operation({
    id: 'outside.changeServer',
    changes: 'outside server',
    method: 'PATCH',
    path: `${SERVERS}/{server}`,
    summary: 'Change where a database server is, or its password',
    caller: maintainer,
    params: one,
    body: z
      .strictObject({ ...settings, tls: z.boolean(), password: z.string().max(200) })
      .omit({ kind: true })
      .partial(),
    reply: server,
    problems: ['not-found'],
  }),
  removeServer: operation({
    id: 'outside.removeServer',
    changes: 'outside server',
    command: 'outside-server remove',
    method: 'DELETE',
    path: `${SERVERS}/{server}`,
    summary: 'Forget a database server with its password; its tables stay as they are',
    caller: maintainer,
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
  checkServer: operation({
    id: 'outside.checkServer',
    changes: 'nothing',
    command: 'outside-server check',
    method: 'POST',
    path: `${SERVERS}/{server}/check`,
    summary: 'Connect to a database server, and say what it is and shows',
    caller: developer,
    params: one,
    reply: gatewayCheck,
    problems: ['not-found'],
  }),
  seen: operation({
    id: 'outside.seen',
    command: 'outside-server tables',
    method: 'GET',
    path: `${SERVERS}/{server}/tables`,
    summary: 'Tables and views that a database server shows',
    caller: developer,
    params: one,
    reply: z.object({ items: z.array(seenTable) }),
    problems: ['not-found', ...AWAY],
  }),
  addTable: operation({
    id: 'outside.addTable',
    changes: 'outside table',
    command: 'outside-table add',
    method: 'PUT',
    path: `${TABLES}/{collection}`,
    summary: 'Show a table or view of another server as a collection; again, to change how',
    caller: developer,
    params: table,
    body: z.strictObject(definition),
    alsoStatus: 201,
    reply: collection,
    problems: ['not-found', 'already-exists', 'malformed-filter', 'outside-unsupported', ...AWAY],
  }),
  removeTable: operation({
    id: 'outside.removeTable',
    changes: 'outside table',
    command: 'outside-table remove',
    method: 'DELETE',
    path: `${TABLES}/{collection}`,
    summary: 'Show it no more; the table itself stays as it is',
    caller: developer,
    params: table,
    status: 204,
    reply: nothing,
    problems: ['collection-unknown'],
  }),
  checkTable: operation({
    id: 'outside.checkTable',
    changes: 'nothing',
    command: 'outside-table check',
    method: 'POST',
    path: `${TABLES}/{collection}/check`,
    summary: 'Compare an outside table with its fields, and look at its indexes',
    caller: developer,
    params: table,
    reply: collection,
    problems: ['collection-unknown', ...AWAY],
  }),
};
