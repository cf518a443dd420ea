import { datetime, mysqlTable, varchar } from 'drizzle-orm/mysql-core';

/** Who may do what only one may do at a time, and until when; one that is over may be taken by anybody. */
export const leases = mysqlTable('leases', {
  name: varchar('name', { length: 120 }).primaryKey(),
  owner: varchar('owner', { length: 64 }).notNull(),
  until: datetime('until', { mode: 'date', fsp: 3 }).notNull(),
});
