import type { JsonObject } from '@orchard/core';
import { bigint, index, int, json, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { instant } from '../../platform/database/columns.js';

export const channelTable = mysqlTable('_channels', {
  name: varchar('name', { length: 200 }).primaryKey(),
  /** Filters that say who may listen and who may publish. */
  rules: json('rules').$type<{ listen: string; publish: string }>().notNull(),
  keep: int('keep').notNull(),
  createdBy: varchar('createdBy', { length: 300 }).notNull(),
  createdAt: instant('createdAt').notNull(),
});

export const channelMessageTable = mysqlTable(
  '_channelMessages',
  {
    number: bigint('number', { mode: 'number' }).autoincrement().primaryKey(),
    channel: varchar('channel', { length: 200 }).notNull(),
    data: json('data').$type<JsonObject>().notNull(),
    sender: varchar('sender', { length: 300 }).notNull(),
    at: instant('at').notNull(),
  },
  (t) => [index('channelMessages_channel').on(t.channel, t.number)],
);
