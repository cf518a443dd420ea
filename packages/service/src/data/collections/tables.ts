import type { JsonObject } from '@orchard/core';
import { bigint, char, int, json, mysqlTable, primaryKey, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const collectionTable = mysqlTable('_collections', {
  name: varchar('name', { length: 63 }).primaryKey(),
  rules: json('rules').$type<Record<string, string>>().notNull(),
  /** Constraints of the fields by name; types, keys and indexes are read from the table itself. */
  definition: json('definition').$type<JsonObject>(),
  /** Incremented with each change of the collection's shape or rules, so that other instances notice. */
  revision: int('revision').notNull(),
  createdAt: instant('createdAt').notNull(),
});

/** The cost of lists by form, for index suggestions. */
export const queryTable = mysqlTable(
  '_queries',
  {
    collection: varchar('collection', { length: 63 }).notNull(),
    form: char('form', { length: 22 }).notNull(),
    shape: json('shape').$type<JsonObject>().notNull(),
    example: text('example').notNull(),
    calls: bigint('calls', { mode: 'number' }).notNull(),
    totalUs: bigint('totalUs', { mode: 'number' }).notNull(),
    worstUs: int('worstUs').notNull(),
    lastAt: instant('lastAt').notNull(),
  },
  (t) => [primaryKey({ columns: [t.collection, t.form] })],
);

/** Filters, sorts and columns of a collection's page, saved under a name for the whole team. */
export const viewTable = mysqlTable(
  '_views',
  {
    id: id().primaryKey(),
    collection: varchar('collection', { length: 63 }).notNull(),
    name: varchar('name', { length: 80 }).notNull(),
    query: varchar('query', { length: 4000 }).notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (t) => [uniqueIndex('views_name').on(t.collection, t.name)],
);

/** How many records and bytes each collection had, day by day. */
export const sizeTable = mysqlTable(
  '_sizes',
  {
    collection: varchar('collection', { length: 63 }).notNull(),
    day: char('day', { length: 10 }).notNull(),
    records: bigint('records', { mode: 'number' }).notNull(),
    bytes: bigint('bytes', { mode: 'number' }).notNull(),
  },
  (t) => [primaryKey({ columns: [t.collection, t.day] })],
);

/** The last version of each record that was deleted: one that is created again continues from it. */
export const endedRecordTable = mysqlTable(
  '_endedRecords',
  {
    collection: varchar('collection', { length: 63 }).notNull(),
    recordId: id('recordId').notNull(),
    version: int('version').notNull(),
  },
  (t) => [primaryKey({ columns: [t.collection, t.recordId] })],
);
