import { bigint, index, int, json, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import type { FieldConflict } from '@orchard/core';
import { id, instant } from '../../platform/database/columns.js';

/** Changes of devices that were taken, so that one that is sent again counts once. */
export const takenChangeTable = mysqlTable(
  '_takenChanges',
  {
    id: varchar('id', { length: 36 }).primaryKey(),
    by: varchar('by', { length: 300 }).notNull(),
    version: int('version'),
    conflicts: json('conflicts').$type<FieldConflict[]>(),
    at: instant('at').notNull(),
  },
  (t) => [index('taken_at').on(t.at)],
);

/** How far each device is. */
export const deviceSyncTable = mysqlTable('_deviceSyncs', {
  device: id('device').primaryKey(),
  at: instant('at').notNull(),
  number: bigint('number', { mode: 'number' }).notNull(),
  pending: int('pending'),
  conflicts: int('conflicts'),
  scopes: int('scopes').notNull(),
  taken: int('taken').notNull(),
  refused: int('refused').notNull(),
  problem: varchar('problem', { length: 300 }),
});
