import type { HookOn, VersionPart } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { boolean, index, int, json, mediumtext, mysqlTable, primaryKey, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const functionTable = mysqlTable('_functions', {
  name: varchar('name', { length: 40 }).primaryKey(),
  kind: varchar('kind', { length: 10 }).notNull(),
  /** Of endpoints; of the others empty. */
  path: varchar('path', { length: 200 }).notNull(),
  methods: json('methods').$type<string[]>().notNull(),
  callers: varchar('callers', { length: 10 }).notNull(),
  input: json('input').$type<JsonObject>(),
  output: json('output').$type<JsonObject>(),
  /** Of hooks. */
  on: json('on').$type<HookOn>(),
  /** Of schedules. */
  clock: varchar('clock', { length: 100 }),
  zone: varchar('zone', { length: 64 }),
  missed: varchar('missed', { length: 10 }),
  rights: varchar('rights', { length: 6 }).notNull(),
  hosts: json('hosts').$type<string[]>().notNull(),
  /** A version that holds for some callers already. */
  part: json('part').$type<VersionPart>(),
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
    /** Of an endpoint: of the call that it answered. */
    id: id().primaryKey(),
    name: varchar('name', { length: 40 }).notNull(),
    version: int('version').notNull(),
    cause: varchar('cause', { length: 200 }).notNull().default(''),
    request: id('request'),
    trace: varchar('trace', { length: 32 }),
    attempt: int('attempt').notNull().default(1),
    /** Of the call that a job makes: the same for all attempts. */
    call: id('call'),
    /** What it was called with, where it can be called with it again. */
    order: json('order').$type<JsonObject>(),
    at: instant('at').notNull(),
    durationUs: int('durationUs').notNull(),
    cpuUs: int('cpuUs').notNull(),
    /** Null where it was not measured. */
    memoryKb: int('memoryKb'),
    outcome: varchar('outcome', { length: 8 }).notNull(),
    failed: boolean('failed').notNull(),
    status: int('status'),
    error: text('error'),
    details: json('details').$type<JsonObject>().notNull(),
    userId: id('userId'),
  },
  (t) => [index('function_runs_name').on(t.name, t.at), index('function_runs_at').on(t.at)],
);

/** Calls of functions that a job makes: by hooks after an action, and by schedules. Deleted when they ended well. */
export const functionCallTable = mysqlTable(
  '_functionCalls',
  {
    /** The key for idempotency. */
    id: id().primaryKey(),
    name: varchar('name', { length: 40 }).notNull(),
    cause: varchar('cause', { length: 200 }).notNull(),
    order: json('order').$type<JsonObject>().notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (t) => [index('function_calls_name').on(t.name)],
);

/** What functions may read and nobody is shown; `sealed` is encrypted. */
export const secretTable = mysqlTable('_secrets', {
  name: varchar('name', { length: 40 }).primaryKey(),
  sealed: text('sealed').notNull(),
  changedBy: varchar('changedBy', { length: 300 }).notNull(),
  changedAt: instant('changedAt').notNull(),
});
