import {
  char,
  datetime,
  index,
  int,
  json,
  mediumtext,
  mysqlTable,
  primaryKey,
  text,
  tinyint,
  uniqueIndex,
  varchar,
} from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** What service, gateways, jobs and apps have to say. By day, so that old days are dropped as a whole. */
export const logTable = mysqlTable(
  '_logEntries',
  {
    at: instant('at').notNull(),
    id: char('id', { length: 36 }).notNull(),
    level: tinyint('level').notNull(),
    source: varchar('source', { length: 60 }).notNull(),
    text: varchar('text', { length: 4000 }).notNull(),
    fields: text('fields'),
    trace: char('trace', { length: 32 }),
    deviceId: varchar('deviceId', { length: 64 }),
    userId: varchar('userId', { length: 64 }),
    version: varchar('version', { length: 40 }),
    error: varchar('error', { length: 64 }),
  },
  (t) => [primaryKey({ name: 'log_key', columns: [t.at, t.id] }), index('log_trace').on(t.trace), index('log_error').on(t.error)],
);

/** Errors of apps by likely cause. */
export const errorTable = mysqlTable(
  '_errors',
  {
    id: id().primaryKey(),
    cause: char('cause', { length: 64 }).notNull(),
    name: varchar('name', { length: 200 }).notNull(),
    message: varchar('message', { length: 1000 }).notNull(),
    place: varchar('place', { length: 300 }).notNull(),
    count: int('count').notNull(),
    versions: json('versions').$type<string[]>().notNull(),
    firstAt: instant('firstAt').notNull(),
    lastAt: instant('lastAt').notNull(),
    settledAt: instant('settledAt'),
    settledIn: varchar('settledIn', { length: 40 }),
    /** Seen again after it was settled. */
    backAt: instant('backAt'),
  },
  (t) => [uniqueIndex('errors_cause').on(t.cause)],
);

/** Who met an error: users, and devices without one. */
export const errorPersonTable = mysqlTable(
  '_errorPeople',
  { errorId: id('errorId').notNull(), person: varchar('person', { length: 66 }).notNull(), at: datetime('at', { mode: 'date' }).notNull() },
  (t) => [primaryKey({ name: 'error_people_key', columns: [t.errorId, t.person] })],
);

/** Source maps of apps (ECMA-426), by version and generated file. */
export const sourceMapTable = mysqlTable(
  '_sourceMaps',
  {
    version: varchar('version', { length: 40 }).notNull(),
    file: varchar('file', { length: 200 }).notNull(),
    map: mediumtext('map').notNull(),
    sources: int('sources').notNull(),
    at: instant('at').notNull(),
  },
  (t) => [primaryKey({ name: 'source_maps_key', columns: [t.version, t.file] })],
);
