import type { JsonObject } from '@orchard/core';
import { char, int, json, mysqlTable, primaryKey, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
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

/** Keys that wait for their signed certificate; `sealed` holds the private part, encrypted. */
export const signingRequestTable = mysqlTable(
  '_signingRequests',
  {
    id: id().primaryKey(),
    client: varchar('client', { length: 40 }).notNull(),
    subject: json('subject').$type<JsonObject>().notNull(),
    /** SHA-256 of the public key (SubjectPublicKeyInfo), which the certificate has as well. */
    publicKey: char('publicKey', { length: 64 }).notNull(),
    sealed: text('sealed').notNull(),
    pem: text('pem').notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [uniqueIndex('signing_requests_key').on(table.publicKey)],
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
