import { bigint, char, index, int, mysqlTable, primaryKey, smallint, text, varchar } from 'drizzle-orm/mysql-core';
import { instant } from '../../platform/database/columns.js';

/** Counted sets of people. Of each behaviour the latest that was finished holds. */
export const behaviourTable = mysqlTable(
  '_behaviours',
  {
    number: bigint('number', { mode: 'number' }).autoincrement().primaryKey(),
    /** Of what it asks for. */
    hash: char('hash', { length: 32 }).notNull(),
    event: varchar('event', { length: 100 }).notNull(),
    days: smallint('days').notNull(),
    filter: text('filter'),
    usedAt: instant('usedAt').notNull(),
    /** Null while it is being written. */
    countedAt: instant('countedAt'),
  },
  (t) => [index('behaviours_hash').on(t.hash)],
);

/** How often each person did it; those who did not have no row. */
export const behaviourTimesTable = mysqlTable(
  '_behaviourTimes',
  {
    behaviour: bigint('behaviour', { mode: 'number' }).notNull(),
    person: int('person', { unsigned: true }).notNull(),
    times: int('times').notNull(),
  },
  (t) => [primaryKey({ name: 'behaviourTimes_key', columns: [t.behaviour, t.person] })],
);
