import { mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { environments } from '../../platform/access/systemTables.js';
import { id } from '../../platform/database/columns.js';

/** Host names of teams' own: which site each leads to is needed before an environment is known. */
export const siteHosts = mysqlTable('siteHosts', {
  host: varchar('host', { length: 253 }).primaryKey(),
  environmentId: id('environmentId')
    .notNull()
    .references(() => environments.id, { onDelete: 'cascade' }),
  site: varchar('site', { length: 40 }).notNull(),
});
