import { index, int, mysqlTable, smallint, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../database/columns.js';

/** Work to be done, taken with SKIP LOCKED; one that is not finished is taken again when its lease runs out. */
export const jobTable = mysqlTable(
  '_jobs',
  {
    id: id().primaryKey(),
    kind: varchar('kind', { length: 60 }).notNull(),
    subject: varchar('subject', { length: 64 }).notNull(),
    /** Among due jobs, lower ones are taken first. */
    priority: smallint('priority').notNull().default(0),
    runAt: instant('runAt').notNull(),
    leaseUntil: instant('leaseUntil'),
    leasedBy: varchar('leasedBy', { length: 64 }),
    /** Consecutive failures, and the latest of them. */
    attempts: int('attempts').notNull().default(0),
    lastError: varchar('lastError', { length: 1000 }),
    failedAt: instant('failedAt'),
    /** When it was given up. */
    gaveUpAt: instant('gaveUpAt'),
    createdAt: instant('createdAt').notNull(),
  },
  (t) => [index('jobs_due').on(t.runAt), uniqueIndex('jobs_subject').on(t.kind, t.subject)],
);
