import { index, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** What happened on a date, for those who read charts. */
export const dateNoteTable = mysqlTable(
  '_dateNotes',
  {
    id: id().primaryKey(),
    at: instant('at').notNull(),
    text: varchar('text', { length: 80 }).notNull(),
    by: varchar('by', { length: 130 }).notNull(),
  },
  (t) => [index('dateNotes_at').on(t.at)],
);
