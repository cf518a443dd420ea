import type { JsonObject } from '@orchard/core';
import { int, json, mysqlTable, primaryKey, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** The gateways of an environment; `sealed` holds the credentials, encrypted. */
export const gatewayTable = mysqlTable(
  '_gateways',
  {
    id: id().primaryKey(),
    name: varchar('name', { length: 40 }).notNull(),
    kind: varchar('kind', { length: 20 }).notNull(),
    stage: varchar('stage', { length: 5 }).notNull(),
    client: varchar('client', { length: 40 }),
    settings: json('settings').$type<JsonObject>().notNull(),
    sealed: text('sealed').notNull(),
    /** When its credential expires. */
    expiresAt: instant('expiresAt'),
    checkedAt: instant('checkedAt'),
    check: json('check').$type<JsonObject>(),
    /**
     * When the network refused its credentials, and its message; nothing is sent until they are changed or a check passes.
     */
    refusedAt: instant('refusedAt'),
    refusal: varchar('refusal', { length: 500 }),
    mappingVersion: int('mappingVersion').notNull().default(0),
    createdAt: instant('createdAt').notNull(),
    updatedAt: instant('updatedAt').notNull(),
  },
  (table) => [uniqueIndex('gateways_name').on(table.name)],
);

/** Every version of a gateway's mapping. */
export const gatewayMappingTable = mysqlTable(
  '_gatewayMappings',
  {
    gatewayId: id('gatewayId').notNull(),
    version: int('version').notNull(),
    document: json('document').$type<JsonObject>().notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [primaryKey({ columns: [table.gatewayId, table.version] })],
);
