import type { AccountMail } from '@orchard/core/accounts';
import { char, index, int, mysqlTable, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Codes that sign somebody in. */
export const signInCodeTable = mysqlTable('_signInCodes', {
  /** Hash of the address or number: a dump must not reveal who tried. */
  who: char('who', { length: 43 }).primaryKey(),
  hash: char('hash', { length: 64 }).notNull(),
  tries: int('tries').notNull(),
  sent: int('sent').notNull(),
  firstAt: instant('firstAt').notNull(),
  sentAt: instant('sentAt').notNull(),
  expiresAt: instant('expiresAt').notNull(),
});

/** Mails that are shown rather than sent: in `dev`, without a gateway. */
export const outboxTable = mysqlTable(
  '_accountMails',
  {
    id: id().primaryKey(),
    at: instant('at').notNull(),
    mail: varchar('mail', { length: 20 }).$type<AccountMail>().notNull(),
    to: varchar('to', { length: 254 }).notNull(),
    locale: varchar('locale', { length: 35 }).notNull(),
    subject: varchar('subject', { length: 500 }).notNull(),
    text: text('text').notNull(),
  },
  (t) => [index('accountMails_at').on(t.at)],
);

/** One-time addresses for users. Only hashes are kept. */
export const userLinkTable = mysqlTable(
  '_userLinks',
  {
    tokenHash: char('tokenHash', { length: 64 }).primaryKey(),
    userId: id('userId').notNull(),
    /** What it is for, as the mails about accounts are called. */
    kind: varchar('kind', { length: 20 }).notNull().default('new-password'),
    /** Of a change of address: the new one. */
    detail: varchar('detail', { length: 254 }),
    expiresAt: instant('expiresAt').notNull(),
  },
  (t) => [index('userLinks_user').on(t.userId)],
);
