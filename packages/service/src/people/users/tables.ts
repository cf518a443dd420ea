import type { JsonObject } from '@orchard/core';
import type { RoleOrigins } from '@orchard/core/accounts';
import { boolean, index, int, json, mysqlTable, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

export const userTable = mysqlTable(
  '_users',
  {
    id: id().primaryKey(),
    /** Null for guests. */
    email: varchar('email', { length: 254 }),
    emailConfirmedAt: instant('emailConfirmedAt'),
    name: varchar('name', { length: 200 }),
    /** All that the user has, wherever they come from. */
    roles: json('roles').$type<string[]>().notNull(),
    /** Null: all were given by hand. */
    roleOrigins: json('roleOrigins').$type<RoleOrigins>(),
    data: json('data').$type<JsonObject>().notNull(),
    disabled: boolean('disabled').notNull().default(false),
    /** E.164. */
    phone: varchar('phone', { length: 16 }),
    phoneVerifiedAt: instant('phoneVerifiedAt'),
    /** The version of the terms that was accepted. */
    terms: varchar('terms', { length: 40 }),
    /** When the account goes, unless its owner signs in before. */
    deleteAt: instant('deleteAt'),
    createdAt: instant('createdAt').notNull(),
    updatedAt: instant('updatedAt').notNull(),
    lastSeenAt: instant('lastSeenAt'),
  },
  (t) => [
    uniqueIndex('users_email').on(t.email),
    index('users_created').on(t.createdAt),
    index('users_updated').on(t.updatedAt),
    index('users_phone').on(t.phone),
    index('users_delete').on(t.deleteAt),
  ],
);

/** A session is a family of refresh tokens; only the token of the current generation is valid. */
export const sessionTable = mysqlTable(
  '_sessions',
  {
    id: id().primaryKey(),
    userId: id('userId').notNull(),
    client: varchar('client', { length: 40 }).notNull(),
    generation: int('generation').notNull(),
    createdAt: instant('createdAt').notNull(),
    expiresAt: instant('expiresAt').notNull(),
    /** When this generation replaced the one before. */
    renewedAt: instant('renewedAt'),
    endedAt: instant('endedAt'),
    endedReason: varchar('endedReason', { length: 40 }),
    /** The member who looks at the app as this user; null for the user. */
    supportBy: id('supportBy'),
  },
  (t) => [index('sessions_user').on(t.userId)],
);

/** Credentials of users: none, one, or several for each. */
export const credentialTable = mysqlTable(
  '_credentials',
  {
    id: id().primaryKey(),
    userId: id('userId').notNull(),
    /** `password`, or `provider`: an account at a provider outside. */
    kind: varchar('kind', { length: 20 }).notNull(),
    /** Distinguishes several of a kind, such as accounts elsewhere; empty for a password. */
    identifier: varchar('identifier', { length: 254 }).notNull().default(''),
    /** A hash or another verifier; never the secret itself. */
    verifier: varchar('verifier', { length: 2000 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (t) => [uniqueIndex('credentials_user').on(t.userId, t.kind, t.identifier), index('credentials_identifier').on(t.kind, t.identifier)],
);
