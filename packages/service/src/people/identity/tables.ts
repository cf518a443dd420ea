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

/** Sign-ins that are under way at a provider outside. */
export const outsideSignInTable = mysqlTable(
  '_outsideSignIns',
  {
    stateHash: char('stateHash', { length: 64 }).primaryKey(),
    /** Of the request of our own page that it belongs to. */
    requestHash: char('requestHash', { length: 64 }).notNull(),
    way: varchar('way', { length: 40 }).notNull(),
    /** The verifier of RFC 7636, sealed. */
    verifier: varchar('verifier', { length: 300 }).notNull(),
    nonce: varchar('nonce', { length: 60 }).notNull(),
    expiresAt: instant('expiresAt').notNull(),
  },
  (t) => [index('outsideSignIns_expires').on(t.expiresAt)],
);
