import type { JsonObject } from '@orchard/core';
import { bigint, boolean, char, index, int, json, mysqlTable, primaryKey, smallint, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const notificationTable = mysqlTable(
  '_notifications',
  {
    id: id().primaryKey(),
    /** push, sms or mail. */
    way: varchar('way', { length: 4 }).notNull().default('push'),
    state: varchar('state', { length: 9 }).notNull().default('done'),
    content: json('content').$type<JsonObject>().notNull(),
    audience: json('audience').$type<JsonObject>().notNull(),
    urgency: varchar('urgency', { length: 10 }).notNull(),
    ttlS: int('ttlS').notNull(),
    replaces: varchar('replaces', { length: 32 }),
    /** Further options: pace, quiet hours, local time, fallback. */
    options: json('options').$type<JsonObject>(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    /** Of the call that made it; null for those of the service itself. */
    trace: char('trace', { length: 32 }),
    createdAt: instant('createdAt').notNull(),
    startAt: instant('startAt'),
    startedAt: instant('startedAt'),
    doneAt: instant('doneAt'),
    /** The last device that has a delivery; `slices` is the number of slices. */
    spreadTo: varchar('spreadTo', { length: 254 }),
    spread: boolean('spread').notNull().default(true),
    slices: int('slices').notNull().default(1),
    /** With a pace: when the next message may go, in milliseconds since 1970. */
    paceAt: bigint('paceAt', { mode: 'number' }).notNull().default(0),
    /** When a delivery of it last changed, to about a second. */
    changedAt: instant('changedAt'),
  },
  (t) => [index('notifications_state').on(t.state), index('notifications_changed').on(t.changedAt)],
);

export const deliveryTable = mysqlTable(
  '_deliveries',
  {
    notificationId: id('notificationId').notNull(),
    /** A device's id, a phone number, or a mail address. */
    target: varchar('target', { length: 254 }).notNull(),
    slice: int('slice').notNull().default(0),
    way: varchar('way', { length: 4 }).notNull().default('push'),
    gateway: varchar('gateway', { length: 40 }),
    userId: id('userId'),
    platform: varchar('platform', { length: 10 }),
    variant: char('variant', { length: 1 }).notNull().default('a'),
    state: varchar('state', { length: 8 }).notNull(),
    reason: varchar('reason', { length: 300 }),
    attempts: int('attempts').notNull().default(0),
    answer: smallint('answer'),
    /** The network's message, and its id of the notification. */
    said: varchar('said', { length: 300 }),
    messageId: varchar('messageId', { length: 120 }),
    /** The id by which a later receipt or failure notice finds it. */
    receiptId: varchar('receiptId', { length: 120 }),
    segments: smallint('segments'),
    nextAttemptAt: instant('nextAttemptAt'),
    sentAt: instant('sentAt'),
    receivedAt: instant('receivedAt'),
    openedAt: instant('openedAt'),
    /** The button that the person chose. */
    button: varchar('button', { length: 60 }),
    updatedAt: instant('updatedAt').notNull(),
  },
  (t) => [
    primaryKey({ columns: [t.notificationId, t.target] }),
    // A slice is small enough to be scanned for due deliveries; an index by time would be written with every result.
    index('deliveries_set').on(t.notificationId, t.slice),
    // Ids of notifications are in order of time, and so is this index for a target.
    index('deliveries_target').on(t.target, t.notificationId),
    index('deliveries_receipt').on(t.receiptId),
  ],
);
