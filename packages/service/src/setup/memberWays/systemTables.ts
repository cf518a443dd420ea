import { boolean, char, index, int, mysqlTable, text, varchar } from 'drizzle-orm/mysql-core';
import { members } from '../../platform/access/systemTables.js';
import { id, instant } from '../../platform/database/columns.js';

/** How a member can be reached: by mail, by SMS, in a browser. */
export const memberWays = mysqlTable(
  'memberWays',
  {
    id: id().primaryKey(),
    memberId: id('memberId')
      .notNull()
      .references(() => members.id, { onDelete: 'cascade' }),
    kind: varchar('kind', { length: 10 }).notNull(),
    /** What the member calls it, such as the browser. */
    name: varchar('name', { length: 100 }).notNull(),
    /** A mail address, a phone number (E.164), or the resource of a push subscription (RFC 8030). */
    address: text('address').notNull(),
    p256dh: varchar('p256dh', { length: 100 }),
    auth: varchar('auth', { length: 40 }),
    /** The key the subscription was made with. */
    pushKey: varchar('pushKey', { length: 64 }),
    verifiedAt: instant('verifiedAt'),
    codeHash: char('codeHash', { length: 64 }),
    codeExpiresAt: instant('codeExpiresAt'),
    codeAttempts: int('codeAttempts').notNull().default(0),
    /** Quiet hours, `22:00` to `07:00` in the time zone; null for none. */
    quietFrom: char('quietFrom', { length: 5 }),
    quietUntil: char('quietUntil', { length: 5 }),
    timeZone: varchar('timeZone', { length: 60 }).notNull(),
    /** Whether urgent messages come during quiet hours as well. */
    urgentAnyway: boolean('urgentAnyway').notNull().default(true),
    createdAt: instant('createdAt').notNull(),
    lastSentAt: instant('lastSentAt'),
    lastFailure: varchar('lastFailure', { length: 500 }),
  },
  (table) => [index('memberWays_member').on(table.memberId)],
);

/** What members are told, with what became of it on each way. */
export const memberMessages = mysqlTable(
  'memberMessages',
  {
    id: id().primaryKey(),
    wayId: id('wayId')
      .notNull()
      .references(() => memberWays.id, { onDelete: 'cascade' }),
    title: varchar('title', { length: 200 }).notNull(),
    body: varchar('body', { length: 1000 }).notNull(),
    /** A path of the console. */
    link: varchar('link', { length: 300 }),
    urgent: boolean('urgent').notNull(),
    state: varchar('state', { length: 10 }).notNull(),
    reason: varchar('reason', { length: 500 }),
    createdAt: instant('createdAt').notNull(),
    sentAt: instant('sentAt'),
  },
  (table) => [index('memberMessages_way').on(table.wayId, table.createdAt)],
);
