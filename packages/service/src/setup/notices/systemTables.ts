import { index, mysqlTable, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { environments, members } from '../../platform/access/systemTables.js';
import { id, instant } from '../../platform/database/columns.js';

/** Notices to members; `once` prevents duplicates. */
export const notices = mysqlTable(
  'notices',
  {
    id: id().primaryKey(),
    environmentId: id('environmentId').references(() => environments.id, { onDelete: 'cascade' }),
    once: varchar('once', { length: 200 }).notNull(),
    title: varchar('title', { length: 200 }).notNull(),
    body: varchar('body', { length: 1000 }).notNull(),
    link: varchar('link', { length: 300 }),
    at: instant('at').notNull(),
  },
  (table) => [uniqueIndex('notices_once').on(table.once), index('notices_at').on(table.at)],
);

/** The time up to which each member has read. */
export const noticesRead = mysqlTable('noticesRead', {
  memberId: id('memberId')
    .primaryKey()
    .references(() => members.id, { onDelete: 'cascade' }),
  until: instant('until').notNull(),
});
