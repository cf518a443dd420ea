import { bigint, index, int, longtext, mysqlTable, tinyint, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../database/columns.js';

/**
 * The change feed, written by triggers on each collection's table: one entry a write, in its transaction. Entries
 * come in the order of writing; their `number` is given after the commit, so that numbers appear in order.
 */
export const feedTable = mysqlTable(
  '_feed',
  {
    entry: bigint('entry', { mode: 'number' }).autoincrement().primaryKey(),
    number: bigint('number', { mode: 'number' }).notNull().default(0),
    collection: varchar('collection', { length: 63 }).notNull(),
    recordId: id('recordId').notNull(),
    action: varchar('action', { length: 8 }).notNull(),
    version: int('version').notNull(),
    at: instant('at').notNull(),
    by: varchar('by', { length: 300 }).notNull(),
    before: longtext('before'),
    after: longtext('after'),
  },
  (t) => [index('feed_number').on(t.number), index('feed_record').on(t.collection, t.recordId, t.version), index('feed_at').on(t.at)],
);

/** One row: the highest assigned number of the feed. */
export const feedCounterTable = mysqlTable('_feedCounter', {
  id: tinyint('id').primaryKey(),
  number: bigint('number', { mode: 'number' }).notNull(),
});

/** The form of the triggers that write it; incremented when the triggers of every collection must be rewritten. */
export const TRIGGER_FORMAT = 3;
export const hasOldTriggers = ({ triggers }: { triggers: number }): boolean => triggers < TRIGGER_FORMAT;

/** The body of a trigger that does nothing while rows are copied with what the trigger has made of them. */
export const unlessCopying = (statements: string): string => `BEGIN IF COALESCE(@orchard_copying, 0) = 0 THEN ${statements}; END IF; END`;
