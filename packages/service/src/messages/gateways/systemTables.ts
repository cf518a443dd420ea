import type { JsonObject } from '@orchard/core';
import { int, json, mysqlTable, primaryKey, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { environments } from '../../platform/access/systemTables.js';
import { id, instant } from '../../platform/database/columns.js';

/** Where gateways were stored before they moved to the databases of their environments; emptied as those are upgraded. */
export const formerGateways = mysqlTable(
  'gateways',
  {
    id: id().primaryKey(),
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
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
  (table) => [uniqueIndex('gateways_name').on(table.environmentId, table.name)],
);

export const formerGatewayMappings = mysqlTable(
  'gatewayMappings',
  {
    gatewayId: id('gatewayId')
      .notNull()
      .references(() => formerGateways.id, { onDelete: 'cascade' }),
    version: int('version').notNull(),
    document: json('document').$type<JsonObject>().notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [primaryKey({ columns: [table.gatewayId, table.version] })],
);
