import type { NewReport } from '@orchard/contract';
import { json, mysqlTable, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** What the team saved to look at again. */
export const reportTable = mysqlTable(
  '_reports',
  {
    id: id().primaryKey(),
    name: varchar('name', { length: 80 }).notNull(),
    settings: json('settings').$type<Omit<NewReport, 'name'>>().notNull(),
    by: varchar('by', { length: 200 }).notNull(),
    at: instant('at').notNull(),
  },
  (t) => [uniqueIndex('reports_name').on(t.name)],
);
