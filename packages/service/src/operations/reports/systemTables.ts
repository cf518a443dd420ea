import type { NewDigest } from '@orchard/contract';
import { char, index, json, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { members } from '../../platform/access/systemTables.js';
import { id, instant } from '../../platform/database/columns.js';

/** Digests span environments, so they belong to the installation. */
export const digests = mysqlTable('digests', {
  id: id().primaryKey(),
  name: varchar('name', { length: 80 }).notNull(),
  settings: json('settings').$type<Omit<NewDigest, 'name' | 'readers'>>().notNull(),
  /** Whose rights bound what readers who are no members see. */
  memberId: id('memberId')
    .notNull()
    .references(() => members.id, { onDelete: 'cascade' }),
  createdAt: instant('createdAt').notNull(),
});

export const digestReaders = mysqlTable(
  'digestReaders',
  {
    id: id().primaryKey(),
    digestId: id('digestId')
      .notNull()
      .references(() => digests.id, { onDelete: 'cascade' }),
    memberId: id('memberId').references(() => members.id, { onDelete: 'cascade' }),
    /** Of a reader who is no member. */
    address: varchar('address', { length: 254 }),
    timeZone: varchar('timeZone', { length: 60 }).notNull(),
    /** Of the link that confirms, and later of the one that ends. */
    tokenHash: char('tokenHash', { length: 64 }),
    confirmedAt: instant('confirmedAt'),
    nextAt: instant('nextAt'),
    lastSentAt: instant('lastSentAt'),
    lastFailure: varchar('lastFailure', { length: 500 }),
  },
  (t) => [
    index('digestReaders_digest').on(t.digestId),
    index('digestReaders_next').on(t.nextAt),
    index('digestReaders_token').on(t.tokenHash),
  ],
);
