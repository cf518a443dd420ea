import type { JsonObject } from '@orchard/core';
import { char, index, int, json, mysqlTable, text, varchar } from 'drizzle-orm/mysql-core';
import { instant } from '../database/columns.js';

/** Failed sign-ins by account and address, and addresses that accounts are used from. */
export const guessTable = mysqlTable(
  '_guesses',
  { who: char('who', { length: 43 }).primaryKey(), failures: int('failures').notNull(), lastAt: instant('lastAt').notNull() },
  (t) => [index('guesses_at').on(t.lastAt)],
);

/** Keys that sign the tokens of users. */
export const signingKeyTable = mysqlTable('_signingKeys', {
  kid: varchar('kid', { length: 16 }).primaryKey(),
  /** The private key, sealed. */
  sealed: text('sealed').notNull(),
  /** The public key (RFC 7517). */
  jwk: json('jwk').$type<JsonObject>().notNull(),
  createdAt: instant('createdAt').notNull(),
});
