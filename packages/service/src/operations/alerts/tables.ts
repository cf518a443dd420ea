import { bigint, char, index, json, mysqlTable, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';
import type { Progress } from './progress.js';

/** Stretches in which the environment was not well. */
export const incidentTable = mysqlTable(
  '_incidents',
  {
    id: id().primaryKey(),
    /** What it is about; of each subject one is open at most. */
    subject: varchar('subject', { length: 60 }).notNull(),
    /** The subject while it is open, then null. */
    openSubject: varchar('openSubject', { length: 60 }),
    title: varchar('title', { length: 300 }).notNull(),
    condition: varchar('condition', { length: 10 }).notNull(),
    openedAt: instant('openedAt').notNull(),
    closedAt: instant('closedAt'),
    acknowledgedAt: instant('acknowledgedAt'),
    acknowledgedBy: varchar('acknowledgedBy', { length: 200 }),
    /** How far alerting has come. */
    progress: json('progress').$type<Progress>().notNull(),
  },
  (t) => [uniqueIndex('incidents_open').on(t.openSubject), index('incidents_opened').on(t.openedAt)],
);

export const incidentHappeningTable = mysqlTable(
  '_incidentHappenings',
  {
    number: bigint('number', { mode: 'number' }).autoincrement().primaryKey(),
    incidentId: id('incidentId').notNull(),
    at: instant('at').notNull(),
    kind: varchar('kind', { length: 20 }).notNull(),
    text: varchar('text', { length: 2100 }).notNull(),
    by: varchar('by', { length: 200 }).notNull(),
  },
  (t) => [index('happenings_incident').on(t.incidentId)],
);

/** Addresses in alerts that acknowledge without signing in. */
export const alertLinkTable = mysqlTable('_alertLinks', {
  tokenHash: char('tokenHash', { length: 64 }).primaryKey(),
  incidentId: id('incidentId').notNull(),
  memberId: id('memberId').notNull(),
  expiresAt: instant('expiresAt').notNull(),
});
