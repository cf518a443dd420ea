import { index, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Listeners of a channel: one row for each open stream, renewed while it is open. */
export const presenceTable = mysqlTable(
  '_presence',
  {
    channel: varchar('channel', { length: 200 }).notNull(),
    stream: id('stream').notNull(),
    userId: id('userId'),
    deviceId: id('deviceId'),
    since: instant('since').notNull(),
    until: instant('until').notNull(),
  },
  (t) => [primaryKey({ columns: [t.channel, t.stream] }), index('presence_until').on(t.until)],
);
