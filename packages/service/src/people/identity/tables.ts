import { char, index, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** What apps ask of the sign-in page: from opening it to exchanging the code. Only hashes of secrets are kept. */
export const authorizationTable = mysqlTable(
  '_authorizations',
  {
    /** Hash of the request that the page carries. */
    hash: char('hash', { length: 64 }).primaryKey(),
    client: varchar('client', { length: 40 }).notNull(),
    redirectUri: varchar('redirectUri', { length: 500 }).notNull(),
    /** S256 (RFC 7636 section 4.2). */
    challenge: char('challenge', { length: 43 }).notNull(),
    scope: varchar('scope', { length: 200 }).notNull(),
    state: varchar('state', { length: 500 }),
    nonce: varchar('nonce', { length: 200 }),
    userId: id('userId'),
    signedInAt: instant('signedInAt'),
    codeHash: char('codeHash', { length: 64 }).unique('authorizations_code'),
    /** The session that the code began. */
    sessionId: id('sessionId'),
    expiresAt: instant('expiresAt').notNull(),
  },
  (t) => [index('authorizations_expires').on(t.expiresAt)],
);
