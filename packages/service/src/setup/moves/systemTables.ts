import { bigint, index, int, json, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const MOVE_STATES = ['copying', 'catching-up', 'switching', 'done', 'failed', 'undone'] as const;

/** Moves of environments to other database servers or installations. */
export const moveTable = mysqlTable(
  'moves',
  {
    id: id().primaryKey(),
    environmentId: id('environmentId').notNull(),
    state: varchar('state', { length: 12 }).$type<(typeof MOVE_STATES)[number]>().notNull(),
    /** Names of the settings; null for the main one. */
    from: varchar('from', { length: 40 }),
    to: varchar('to', { length: 40 }),
    /** The address of the other installation; null for a move within this one. */
    installation: varchar('installation', { length: 300 }),
    /** The ticket that was made there. */
    sealedTicket: varchar('sealedTicket', { length: 500 }),
    by: varchar('by', { length: 300 }).notNull(),
    at: instant('at').notNull(),
    endedAt: instant('endedAt'),
    doing: varchar('doing', { length: 200 }),
    problem: varchar('problem', { length: 2000 }),
    rows: bigint('rows', { mode: 'number' }).notNull().default(0),
    caughtUp: bigint('caughtUp', { mode: 'number' }).notNull().default(0),
    /** How long writes were held. */
    pauseMs: int('pauseMs'),
    notes: json('notes').$type<string[]>().notNull(),
  },
  (t) => [index('moves_environment').on(t.environmentId, t.at)],
);
