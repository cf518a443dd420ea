import { char, index, int, mysqlTable, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Received short messages. */
export const smsInboxTable = mysqlTable(
  '_smsInbox',
  {
    id: id().primaryKey(),
    gateway: varchar('gateway', { length: 40 }).notNull(),
    sender: varchar('sender', { length: 21 }).notNull(),
    recipient: varchar('recipient', { length: 21 }).notNull(),
    text: text('text').notNull(),
    /** Opt-out, opt-in, or null. */
    asked: varchar('asked', { length: 3 }),
    userId: id('userId'),
    at: instant('at').notNull(),
  },
  (t) => [index('smsInbox_at').on(t.at), index('smsInbox_sender').on(t.sender)],
);

/** One-time codes on their way to a number. */
export const codeTable = mysqlTable('_codes', {
  number: varchar('number', { length: 16 }).primaryKey(),
  hash: char('hash', { length: 64 }).notNull(),
  tries: int('tries').notNull(),
  sent: int('sent').notNull(),
  firstAt: instant('firstAt').notNull(),
  sentAt: instant('sentAt').notNull(),
  expiresAt: instant('expiresAt').notNull(),
});
