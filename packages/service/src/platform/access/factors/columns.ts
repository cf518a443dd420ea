/** Columns of a second factor, of members and of users. */
import { char, int, json, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../database/columns.js';

export const factorColumns = () => ({
  id: id().primaryKey(),
  kind: varchar('kind', { length: 20 }).notNull(),
  name: varchar('name', { length: 100 }).notNull(),
  /** Of an authenticator app: its secret, sealed. */
  sealed: varchar('sealed', { length: 300 }),
  /** The last time step a code was accepted of (RFC 6238 section 5.2: each code works once). */
  lastStep: int('lastStep'),
  /** How many steps the clock of the app is ahead (RFC 6238 section 6). */
  drift: int('drift').notNull().default(0),
  /** Of a passkey: the hash of its credential id, and the key it signs with (COSE, base64url). */
  credentialHash: char('credentialHash', { length: 64 }).unique(),
  credentialId: text('credentialId'),
  publicKey: text('publicKey'),
  counter: int('counter', { unsigned: true }).notNull().default(0),
  transports: json('transports').$type<string[]>(),
  createdAt: instant('createdAt').notNull(),
  /** Null until a first code has shown that it works. */
  confirmedAt: instant('confirmedAt'),
  lastUsedAt: instant('lastUsedAt'),
});
