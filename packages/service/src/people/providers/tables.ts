import { char, index, mysqlTable, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Sign-ins that are under way at a provider outside. */
export const outsideSignInTable = mysqlTable(
  '_outsideSignIns',
  {
    stateHash: char('stateHash', { length: 64 }).primaryKey(),
    /** Of the request of our own page that it belongs to. */
    requestHash: char('requestHash', { length: 64 }).notNull(),
    way: varchar('way', { length: 40 }).notNull(),
    /** The verifier of RFC 7636, or the person a provider has named already; sealed. */
    verifier: text('verifier').notNull(),
    nonce: varchar('nonce', { length: 60 }).notNull(),
    expiresAt: instant('expiresAt').notNull(),
  },
  (t) => [index('outsideSignIns_expires').on(t.expiresAt)],
);

/** What providers have handed out for users: sealed, fresh, and for functions alone. */
export const providerTokenTable = mysqlTable(
  '_providerTokens',
  {
    /** Of the account at the provider. */
    credentialId: id('credentialId').primaryKey(),
    userId: id('userId').notNull(),
    way: varchar('way', { length: 40 }).notNull(),
    sealed: text('sealed').notNull(),
    /** Of the access token; null where the provider does not say. */
    expiresAt: instant('expiresAt'),
    /** When it is refreshed next; null where it cannot be. */
    refreshAt: instant('refreshAt'),
  },
  (t) => [index('providerTokens_user').on(t.userId), index('providerTokens_refresh').on(t.refreshAt)],
);
