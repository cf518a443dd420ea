import { mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core';
import { instant } from '../../platform/database/columns.js';

/** Phone numbers and mail addresses that opted out, or in again. */
export const optOutTable = mysqlTable(
  '_optOuts',
  {
    way: varchar('way', { length: 4 }).notNull(),
    address: varchar('address', { length: 254 }).notNull(),
    state: varchar('state', { length: 3 }).notNull(),
    because: varchar('because', { length: 200 }).notNull(),
    at: instant('at').notNull(),
  },
  (t) => [primaryKey({ columns: [t.way, t.address] })],
);
