import { mysqlTable, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Saved reports side by side. */
export const sheetTable = mysqlTable(
  '_sheets',
  {
    id: id().primaryKey(),
    name: varchar('name', { length: 80 }).notNull(),
    /** JSON: ids of reports with their widths, in order. */
    items: text('items').notNull(),
    by: varchar('by', { length: 130 }).notNull(),
    at: instant('at').notNull(),
  },
  (t) => [uniqueIndex('sheets_name').on(t.name)],
);
