import { char, index, mysqlTable, primaryKey } from 'drizzle-orm/mysql-core';
import { factorColumns } from '../../platform/access/factors/columns.js';
import { id, instant } from '../../platform/database/columns.js';

/** Authenticator apps and passkeys of users. */
export const userFactorTable = mysqlTable('_userFactors', { ...factorColumns(), ownerId: id('userId').notNull() }, (t) => [
  index('userFactors_user').on(t.ownerId),
]);

/** Recovery codes that were not used yet, as hashes. */
export const userRecoveryCodeTable = mysqlTable(
  '_userRecoveryCodes',
  { ownerId: id('userId').notNull(), hash: char('hash', { length: 64 }).notNull() },
  (t) => [primaryKey({ columns: [t.ownerId, t.hash] })],
);

/** Challenges of passkeys in flight; each is used once. */
export const userChallengeTable = mysqlTable(
  '_userChallenges',
  { hash: char('hash', { length: 64 }).primaryKey(), ownerId: id('userId'), expiresAt: instant('expiresAt').notNull() },
  (t) => [index('userChallenges_at').on(t.expiresAt)],
);
