import type { JsonObject } from '@orchard/core';
import { boolean, index, int, json, mysqlTable, primaryKey, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const standingTable = mysqlTable('_standing', {
  id: id().primaryKey(),
  name: varchar('name', { length: 80 }).notNull(),
  collection: varchar('collection', { length: 63 }).notNull(),
  field: varchar('field', { length: 63 }).notNull(),
  filter: text('filter'),
  /** `ownerId`, or a field that refers to a user. */
  to: varchar('to', { length: 63 }).notNull(),
  /** Days and time of day before a date, or minutes before a time. */
  daysBefore: int('daysBefore'),
  at: varchar('at', { length: 5 }),
  minutesBefore: int('minutesBefore'),
  zone: varchar('zone', { length: 64 }),
  way: varchar('way', { length: 4 }).notNull(),
  content: json('content').$type<JsonObject>().notNull(),
  active: boolean('active').notNull(),
  createdBy: varchar('createdBy', { length: 300 }).notNull(),
  createdAt: instant('createdAt').notNull(),
  changedAt: instant('changedAt').notNull(),
  /** All that was due up to here has been sent. */
  checkedTo: instant('checkedTo').notNull(),
  problem: varchar('problem', { length: 500 }),
});

/** One for each record and each value of its field: a date that moves is another occasion. */
export const standingSentTable = mysqlTable(
  '_standingSent',
  {
    standingId: id('standingId').notNull(),
    record: varchar('record', { length: 64 }).notNull(),
    value: varchar('value', { length: 30 }).notNull(),
    at: instant('at').notNull(),
    userId: id('userId'),
    outcome: varchar('outcome', { length: 6 }).notNull(),
    reason: varchar('reason', { length: 300 }),
    notification: id('notification'),
  },
  (t) => [primaryKey({ columns: [t.standingId, t.record, t.value] }), index('standing_sent_at').on(t.at)],
);
