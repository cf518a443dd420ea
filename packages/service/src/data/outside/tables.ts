import type { AccessRules, JsonObject } from '@orchard/core';
import { boolean, int, json, mysqlTable, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Database servers of others; `sealed` holds the password, encrypted. */
export const outsideServerTable = mysqlTable(
  '_outsideServers',
  {
    id: id().primaryKey(),
    name: varchar('name', { length: 40 }).notNull(),
    kind: varchar('kind', { length: 12 }).notNull(),
    host: varchar('host', { length: 253 }).notNull(),
    port: int('port').notNull(),
    database: varchar('database', { length: 128 }).notNull(),
    user: varchar('user', { length: 128 }).notNull(),
    sealed: text('sealed').notNull(),
    tls: boolean('tls').notNull(),
    trust: text('trust'),
    check: json('check').$type<JsonObject>(),
    createdAt: instant('createdAt').notNull(),
    updatedAt: instant('updatedAt').notNull(),
  },
  (t) => [uniqueIndex('outside_servers_name').on(t.name)],
);

/** Tables of those servers that are shown as collections. */
export const outsideTableTable = mysqlTable('_outsideTables', {
  name: varchar('name', { length: 63 }).primaryKey(),
  serverId: id('serverId').notNull(),
  table: varchar('table', { length: 260 }).notNull(),
  key: varchar('key', { length: 128 }).notNull(),
  version: varchar('version', { length: 128 }),
  owner: varchar('owner', { length: 128 }),
  changes: varchar('changes', { length: 128 }),
  writable: boolean('writable').notNull(),
  fields: json('fields').$type<JsonObject[]>().notNull(),
  rules: json('rules').$type<AccessRules>().notNull(),
  /** What was seen of it at the last check: columns, indexes, rows. */
  seen: json('seen').$type<JsonObject>().notNull(),
  checkedAt: instant('checkedAt').notNull(),
  createdBy: varchar('createdBy', { length: 300 }).notNull(),
  createdAt: instant('createdAt').notNull(),
  updatedAt: instant('updatedAt').notNull(),
});
