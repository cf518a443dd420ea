/** Backups outlive the environments they are of, so they belong to the installation, and name them as people do. */
import type { JsonObject } from '@orchard/core';
import { bigint, boolean, index, int, json, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';
import type { RestoreWish } from './wish.js';

export const BACKUP_STATES = ['running', 'done', 'failed'] as const;

export const backupTable = mysqlTable(
  'backups',
  {
    id: id().primaryKey(),
    app: varchar('app', { length: 40 }).notNull(),
    environment: varchar('environment', { length: 40 }).notNull(),
    state: varchar('state', { length: 10 }).$type<(typeof BACKUP_STATES)[number]>().notNull(),
    /** Where it is; see places.ts. */
    place: varchar('place', { length: 300 }).notNull(),
    by: varchar('by', { length: 300 }).notNull(),
    note: varchar('note', { length: 300 }).notNull(),
    askedAt: instant('askedAt').notNull(),
    /** The moment it shows. */
    at: instant('at'),
    endedAt: instant('endedAt'),
    doing: varchar('doing', { length: 200 }),
    problem: varchar('problem', { length: 2000 }),
    /** Mark of its key. */
    keyMark: varchar('keyMark', { length: 12 }),
    rows: bigint('rows', { mode: 'number' }).notNull().default(0),
    bytes: bigint('bytes', { mode: 'number' }).notNull().default(0),
    files: bigint('files', { mode: 'number' }).notNull().default(0),
    fileBytes: bigint('fileBytes', { mode: 'number' }).notNull().default(0),
    /** What was stored for it, since the ones before did not have it. */
    newBytes: bigint('newBytes', { mode: 'number' }).notNull().default(0),
    provedAt: instant('provedAt'),
    /** Whether the last proof found it whole; null before the first. */
    isWhole: boolean('isWhole'),
    proof: varchar('proof', { length: 2000 }),
    proofMs: int('proofMs'),
  },
  (t) => [index('backups_environment').on(t.app, t.environment, t.askedAt)],
);

export const restoreTable = mysqlTable(
  'restores',
  {
    id: id().primaryKey(),
    app: varchar('app', { length: 40 }).notNull(),
    environment: varchar('environment', { length: 40 }).notNull(),
    backup: id('backup').notNull(),
    wish: json('wish').$type<RestoreWish>().notNull(),
    state: varchar('state', { length: 10 }).$type<'running' | 'done' | 'failed' | 'undone'>().notNull(),
    by: varchar('by', { length: 300 }).notNull(),
    at: instant('at').notNull(),
    endedAt: instant('endedAt'),
    doing: varchar('doing', { length: 200 }),
    problem: varchar('problem', { length: 2000 }),
    /** The id of the environment that is being filled. */
    filling: id('filling'),
    /** The id of the environment that was replaced, and when it goes. */
    replaced: id('replaced'),
    /** Its row, to put it back. */
    replacedRow: json('replacedRow').$type<JsonObject>(),
    replacedUntil: instant('replacedUntil'),
    rows: bigint('rows', { mode: 'number' }).notNull().default(0),
    /** What has to be known of the outcome. */
    notes: json('notes').$type<string[]>().notNull(),
  },
  (t) => [index('restores_environment').on(t.app, t.environment, t.at)],
);

/** People who were erased: whatever is restored, they stay erased. Apart from the databases that are restored. */
export const erasureTable = mysqlTable(
  'erasures',
  {
    app: varchar('app', { length: 40 }).notNull(),
    environment: varchar('environment', { length: 40 }).notNull(),
    userId: id('userId').notNull(),
    at: instant('at').notNull(),
    /** Whether the list beside the backups has it. */
    kept: boolean('kept').notNull().default(false),
  },
  (t) => [primaryKey({ columns: [t.app, t.environment, t.userId] }), index('erasures_kept').on(t.kept)],
);
