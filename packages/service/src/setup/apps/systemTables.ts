import { int, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core';
import { environments } from '../../platform/access/systemTables.js';
import { id, instant } from '../../platform/database/columns.js';

export const blockedOrigins = mysqlTable(
  'blockedOrigins',
  {
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    client: varchar('client', { length: 40 }).notNull(),
    origin: varchar('origin', { length: 253 }).notNull(),
    count: int('count').notNull(),
    lastRoute: varchar('lastRoute', { length: 200 }).notNull(),
    firstAt: instant('firstAt').notNull(),
    lastAt: instant('lastAt').notNull(),
  },
  (table) => [primaryKey({ columns: [table.environmentId, table.client, table.origin] })],
);
