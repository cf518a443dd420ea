import { datetime, mysqlTable, varchar } from 'drizzle-orm/mysql-core';

/** Leases: owner and end of each; an expired one may be taken by any instance. */
export const leases = mysqlTable('leases', {
  name: varchar('name', { length: 120 }).primaryKey(),
  owner: varchar('owner', { length: 64 }).notNull(),
  until: datetime('until', { mode: 'date', fsp: 3 }).notNull(),
});
