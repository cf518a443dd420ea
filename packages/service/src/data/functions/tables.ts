import type { JsonObject } from '@orchard/core';
import { boolean, index, int, json, mediumtext, mysqlTable, primaryKey, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const functionTable = mysqlTable('_functions', {
  name: varchar('name', { length: 40 }).primaryKey(),
  kind: varchar('kind', { length: 10 }).notNull(),
  path: varchar('path', { length: 200 }).notNull(),
  methods: json('methods').$type<string[]>().notNull(),
  callers: varchar('callers', { length: 10 }).notNull(),
  rights: varchar('rights', { length: 6 }).notNull(),
  hosts: json('hosts').$type<string[]>().notNull(),
  /** The version in force; 0 for none. */
  version: int('version').notNull(),
  createdBy: varchar('createdBy', { length: 300 }).notNull(),
  createdAt: instant('createdAt').notNull(),
  changedAt: instant('changedAt').notNull(),
});

export const functionVersionTable = mysqlTable(
  '_functionVersions',
  {
    name: varchar('name', { length: 40 }).notNull(),
    version: int('version').notNull(),
    files: json('files').$type<Record<string, string>>().notNull(),
    /** The same as JavaScript. */
    built: mediumtext('built').notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (t) => [primaryKey({ columns: [t.name, t.version] })],
);

export const functionRunTable = mysqlTable(
  '_functionRuns',
  {
    /** Of the call that it answered. */
    id: id().primaryKey(),
    name: varchar('name', { length: 40 }).notNull(),
    version: int('version').notNull(),
    at: instant('at').notNull(),
    durationUs: int('durationUs').notNull(),
    cpuUs: int('cpuUs').notNull(),
    outcome: varchar('outcome', { length: 8 }).notNull(),
    failed: boolean('failed').notNull(),
    status: int('status'),
    error: text('error'),
    details: json('details').$type<JsonObject>().notNull(),
    userId: id('userId'),
  },
  (t) => [index('function_runs_name').on(t.name, t.at), index('function_runs_at').on(t.at)],
);

/** What functions may read and nobody is shown; `sealed` is encrypted. */
export const secretTable = mysqlTable('_secrets', {
  name: varchar('name', { length: 40 }).primaryKey(),
  sealed: text('sealed').notNull(),
  changedBy: varchar('changedBy', { length: 300 }).notNull(),
  changedAt: instant('changedAt').notNull(),
});
