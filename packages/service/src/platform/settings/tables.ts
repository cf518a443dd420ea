import type { JsonObject } from '@orchard/core';
import { json, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { instant } from '../database/columns.js';

export const settingTable = mysqlTable('_settings', {
  name: varchar('name', { length: 60 }).primaryKey(),
  value: json('value').$type<JsonObject>().notNull(),
  updatedAt: instant('updatedAt').notNull(),
});
