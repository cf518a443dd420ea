import { boolean, char, index, int, json, mysqlTable, primaryKey, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../database/columns.js';
import { factorColumns } from './factors/columns.js';

export const members = mysqlTable(
  'members',
  {
    id: id().primaryKey(),
    email: varchar('email', { length: 254 }).notNull(),
    name: varchar('name', { length: 100 }).notNull(),
    owner: boolean('owner').notNull().default(false),
    createdAt: instant('createdAt').notNull(),
    /** Null while the invitation is open. */
    joinedAt: instant('joinedAt'),
    lastSeenAt: instant('lastSeenAt'),
  },
  (table) => [uniqueIndex('members_email').on(table.email)],
);

/** Credentials of members: none, one, or several for each. */
export const memberCredentials = mysqlTable(
  'memberCredentials',
  {
    id: id().primaryKey(),
    memberId: id('memberId')
      .notNull()
      .references(() => members.id, { onDelete: 'cascade' }),
    kind: varchar('kind', { length: 20 }).notNull(),
    identifier: varchar('identifier', { length: 254 }).notNull().default(''),
    /** A hash or another verifier; never the secret itself. */
    verifier: varchar('verifier', { length: 2000 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [uniqueIndex('memberCredentials_member').on(table.memberId, table.kind, table.identifier)],
);

export const memberSessions = mysqlTable('memberSessions', {
  tokenHash: char('tokenHash', { length: 64 }).primaryKey(),
  memberId: id('memberId')
    .notNull()
    .references(() => members.id, { onDelete: 'cascade' }),
  kind: varchar('kind', { length: 10 }).notNull(),
  createdAt: instant('createdAt').notNull(),
  expiresAt: instant('expiresAt').notNull(),
  lastSeenAt: instant('lastSeenAt'),
  /** When the member last proved who they are: by signing in, or when asked again. */
  confirmedAt: instant('confirmedAt'),
  /** Where the sign-in came from. */
  address: varchar('address', { length: 45 }),
  userAgent: varchar('userAgent', { length: 300 }),
});

/** Open invitations, one for each member who has not joined. Only hashes are kept. */
export const memberInvitations = mysqlTable('memberInvitations', {
  memberId: id('memberId')
    .primaryKey()
    .references(() => members.id, { onDelete: 'cascade' }),
  tokenHash: char('tokenHash', { length: 64 }).notNull().unique(),
  expiresAt: instant('expiresAt').notNull(),
});

/** New mail addresses that wait for confirmation, one for each member. */
export const memberMailChanges = mysqlTable('memberMailChanges', {
  memberId: id('memberId')
    .primaryKey()
    .references(() => members.id, { onDelete: 'cascade' }),
  tokenHash: char('tokenHash', { length: 64 }).notNull().unique(),
  email: varchar('email', { length: 254 }).notNull(),
  expiresAt: instant('expiresAt').notNull(),
});

export const apps = mysqlTable('apps', {
  name: varchar('name', { length: 40 }).primaryKey(),
  title: varchar('title', { length: 100 }).notNull(),
  /** Whether the rights of maintainers and owners need a second factor. */
  secondFactor: boolean('secondFactor').notNull().default(false),
  createdAt: instant('createdAt').notNull(),
});

export const environments = mysqlTable(
  'environments',
  {
    id: id().primaryKey(),
    app: varchar('app', { length: 40 })
      .notNull()
      .references(() => apps.name, { onDelete: 'cascade' }),
    name: varchar('name', { length: 40 }).notNull(),
    mode: varchar('mode', { length: 10 }).notNull(),
    /** The form of the triggers that all of its collections have. */
    triggers: int('triggers').notNull().default(0),
    /** While open: whether a number with a fraction makes an integer field one of numbers. */
    widening: boolean('widening').notNull().default(true),
    /** The database server that holds it; null for the main one. */
    server: varchar('server', { length: 40 }),
    /** The move to another server that is under way: every instance then looks often where the environment is. */
    moving: id('moving'),
    /** The address of the installation that it has moved to: calls of its apps are passed on there. Null for one that lives here. */
    movedTo: varchar('movedTo', { length: 300 }),
    /** Its own keys, sealed by the installation's; null until the first start of a version that gives them. */
    sealedKeys: varchar('sealedKeys', { length: 200 }),
    /** Of one that was restored from a backup: the id of the environment that its credentials were sealed in. */
    sealedFor: id('sealedFor'),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [uniqueIndex('environments_name').on(table.app, table.name)],
);

export const memberRoles = mysqlTable(
  'memberRoles',
  {
    memberId: id('memberId')
      .notNull()
      .references(() => members.id, { onDelete: 'cascade' }),
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    role: varchar('role', { length: 12 }).notNull(),
  },
  (table) => [primaryKey({ columns: [table.memberId, table.environmentId] })],
);

/** Secrets of scripts and other automation, each with roles of its own. Only hashes are kept. */
export const automationTokens = mysqlTable('automationTokens', {
  id: id().primaryKey(),
  name: varchar('name', { length: 100 }).notNull(),
  hash: char('hash', { length: 64 }).notNull().unique(),
  hint: char('hint', { length: 6 }).notNull(),
  createdBy: varchar('createdBy', { length: 120 }).notNull(),
  createdAt: instant('createdAt').notNull(),
  expiresAt: instant('expiresAt').notNull(),
  lastUsedAt: instant('lastUsedAt'),
  lastUsedFrom: varchar('lastUsedFrom', { length: 45 }),
  revokedAt: instant('revokedAt'),
});

export const automationTokenRoles = mysqlTable(
  'automationTokenRoles',
  {
    tokenId: id('tokenId')
      .notNull()
      .references(() => automationTokens.id, { onDelete: 'cascade' }),
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    role: varchar('role', { length: 12 }).notNull(),
  },
  (table) => [primaryKey({ columns: [table.tokenId, table.environmentId] })],
);

/** Second factors of members. */
export const memberFactors = mysqlTable(
  'memberFactors',
  {
    ...factorColumns(),
    ownerId: id('memberId')
      .notNull()
      .references(() => members.id, { onDelete: 'cascade' }),
  },
  (table) => [index('memberFactors_member').on(table.ownerId)],
);

/** Recovery codes that were not used yet, as hashes. */
export const memberRecoveryCodes = mysqlTable(
  'memberRecoveryCodes',
  {
    ownerId: id('memberId')
      .notNull()
      .references(() => members.id, { onDelete: 'cascade' }),
    hash: char('hash', { length: 64 }).notNull(),
  },
  (table) => [primaryKey({ columns: [table.ownerId, table.hash] })],
);

/** Challenges of passkeys in flight; each is used once. */
export const memberChallenges = mysqlTable(
  'memberChallenges',
  {
    hash: char('hash', { length: 64 }).primaryKey(),
    ownerId: id('memberId').references(() => members.id, { onDelete: 'cascade' }),
    expiresAt: instant('expiresAt').notNull(),
  },
  (table) => [index('memberChallenges_at').on(table.expiresAt)],
);

export const clients = mysqlTable(
  'clients',
  {
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    name: varchar('name', { length: 40 }).notNull(),
    kind: varchar('kind', { length: 10 }).notNull(),
    packageIdentifier: varchar('storeId', { length: 200 }),
    /** Its project at a push network that uses service accounts. */
    project: varchar('project', { length: 200 }),
    origins: json('origins').$type<string[]>().notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [primaryKey({ columns: [table.environmentId, table.name] })],
);

export const keys = mysqlTable(
  'keys',
  {
    id: id().primaryKey(),
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    client: varchar('client', { length: 40 }).notNull(),
    kind: varchar('kind', { length: 10 }).notNull(),
    name: varchar('name', { length: 100 }).notNull(),
    scopes: json('scopes').$type<string[]>().notNull(),
    hash: char('hash', { length: 64 }).notNull(),
    hint: char('hint', { length: 6 }).notNull(),
    /** Client keys only, encrypted: they are publishable, so the console may show them again. */
    sealed: text('sealed'),
    createdAt: instant('createdAt').notNull(),
    lastUsedAt: instant('lastUsedAt'),
    revokedAt: instant('revokedAt'),
  },
  (table) => [uniqueIndex('keys_hash').on(table.hash), index('keys_client').on(table.environmentId, table.client)],
);

/** One-time addresses for members, for setting a new password. Only hashes are kept. */
export const memberLinks = mysqlTable(
  'memberLinks',
  {
    tokenHash: char('tokenHash', { length: 64 }).primaryKey(),
    memberId: id('memberId')
      .notNull()
      .references(() => members.id, { onDelete: 'cascade' }),
    expiresAt: instant('expiresAt').notNull(),
  },
  (table) => [index('memberLinks_member').on(table.memberId)],
);

/** Failed sign-ins of members by account and address, and addresses they sign in from. */
export const guesses = mysqlTable(
  'guesses',
  {
    who: char('who', { length: 43 }).primaryKey(),
    failures: int('failures').notNull(),
    lastAt: instant('lastAt').notNull(),
  },
  (table) => [index('guesses_at').on(table.lastAt)],
);

/** Small facts about the installation, such as the hash of the one-time setup token. */
export const settings = mysqlTable('settings', {
  name: varchar('name', { length: 60 }).primaryKey(),
  value: text('value').notNull(),
});
