import { index, json, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const ARRIVAL_STATES = ['awaited', 'receiving', 'loading', 'ready', 'arrived', 'failed', 'given-up'] as const;

/** Environments that arrive from other installations, and tickets for it. */
export const arrivalTable = mysqlTable(
  'arrivals',
  {
    id: id().primaryKey(),
    ticketHash: varchar('ticketHash', { length: 64 }).notNull(),
    state: varchar('state', { length: 12 }).$type<(typeof ARRIVAL_STATES)[number]>().notNull(),
    app: varchar('app', { length: 40 }),
    environment: varchar('environment', { length: 40 }),
    /** The id that it had, and keeps. */
    environmentId: id('environmentId'),
    /** Of the archive that it begins with, and the key of that. */
    backup: id('backup'),
    sealedKey: varchar('sealedKey', { length: 300 }),
    by: varchar('by', { length: 300 }).notNull(),
    at: instant('at').notNull(),
    expiresAt: instant('expiresAt').notNull(),
    endedAt: instant('endedAt'),
    doing: varchar('doing', { length: 200 }),
    problem: varchar('problem', { length: 2000 }),
    notes: json('notes').$type<string[]>().notNull(),
  },
  (t) => [index('arrivals_ticket').on(t.ticketHash), index('arrivals_at').on(t.at)],
);
