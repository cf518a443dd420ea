import { bigint, index, int, mysqlTable, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { environments } from '../access/systemTables.js';
import { id, instant } from '../database/columns.js';

/** Which environments have work due, and from when: where the queue looks. A sweep corrects it. */
export const dueWork = mysqlTable(
  'dueWork',
  {
    environmentId: id('environmentId').primaryKey(),
    dueAt: instant('dueAt').notNull(),
    /** Incremented with every entry, so that a worker that found nothing does not clear one added meanwhile. */
    mark: bigint('mark', { mode: 'number' }).notNull().default(0),
  },
  (t) => [index('dueWork_at').on(t.dueAt)],
);

/**
 * Where jobs were stored before they moved to the databases of their environments; emptied as an environment is upgraded.
 */
export const formerJobs = mysqlTable(
  'jobs',
  {
    id: id().primaryKey(),
    kind: varchar('kind', { length: 40 }).notNull(),
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    subject: varchar('subject', { length: 64 }).notNull(),
    runAt: instant('runAt').notNull(),
    leaseUntil: instant('leaseUntil'),
    leasedBy: varchar('leasedBy', { length: 64 }),
    attempts: int('attempts').notNull().default(0),
    lastError: varchar('lastError', { length: 1000 }),
    failedAt: instant('failedAt'),
    gaveUpAt: instant('gaveUpAt'),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [index('jobs_due').on(table.runAt), uniqueIndex('jobs_subject').on(table.environmentId, table.kind, table.subject)],
);
