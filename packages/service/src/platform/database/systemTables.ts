/** Tables of the system database. Changes become a migration: `npm run migration -- system <name>`. */
import { boolean, char, datetime, index, int, json, mysqlTable, primaryKey, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import type { JsonObject } from '@orchard/core';

const instant = (name: string) => datetime(name, { mode: 'date', fsp: 3 });
const id = (name = 'id') => varchar(name, { length: 64 });

export const members = mysqlTable(
  'members',
  {
    id: id().primaryKey(),
    email: varchar('email', { length: 254 }).notNull(),
    name: varchar('name', { length: 100 }).notNull(),
    passwordHash: varchar('passwordHash', { length: 255 }).notNull(),
    owner: boolean('owner').notNull().default(false),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [uniqueIndex('members_email').on(table.email)],
);

export const memberSessions = mysqlTable('memberSessions', {
  tokenHash: char('tokenHash', { length: 64 }).primaryKey(),
  memberId: id('memberId')
    .notNull()
    .references(() => members.id, { onDelete: 'cascade' }),
  kind: varchar('kind', { length: 10 }).notNull(),
  createdAt: instant('createdAt').notNull(),
  expiresAt: instant('expiresAt').notNull(),
});

export const apps = mysqlTable('apps', {
  name: varchar('name', { length: 40 }).primaryKey(),
  title: varchar('title', { length: 100 }).notNull(),
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

export const clients = mysqlTable(
  'clients',
  {
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    name: varchar('name', { length: 40 }).notNull(),
    kind: varchar('kind', { length: 10 }).notNull(),
    storeId: varchar('storeId', { length: 200 }),
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

/** The ways out of an environment; `sealed` holds the credentials, encrypted. */
export const gateways = mysqlTable(
  'gateways',
  {
    id: id().primaryKey(),
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    name: varchar('name', { length: 40 }).notNull(),
    kind: varchar('kind', { length: 20 }).notNull(),
    stage: varchar('stage', { length: 5 }).notNull(),
    client: varchar('client', { length: 40 }),
    settings: json('settings').$type<JsonObject>().notNull(),
    sealed: text('sealed').notNull(),
    /** When its credential ends. */
    expiresAt: instant('expiresAt'),
    checkedAt: instant('checkedAt'),
    check: json('check').$type<JsonObject>(),
    /** When the network refused its credentials, and in which words; nothing is sent until they are changed or checked well. */
    refusedAt: instant('refusedAt'),
    refusal: varchar('refusal', { length: 500 }),
    mappingVersion: int('mappingVersion').notNull().default(0),
    createdAt: instant('createdAt').notNull(),
    updatedAt: instant('updatedAt').notNull(),
  },
  (table) => [uniqueIndex('gateways_name').on(table.environmentId, table.name)],
);

/** Every version of a gateway's mapping. */
export const gatewayMappings = mysqlTable(
  'gatewayMappings',
  {
    gatewayId: id('gatewayId')
      .notNull()
      .references(() => gateways.id, { onDelete: 'cascade' }),
    version: int('version').notNull(),
    document: json('document').$type<JsonObject>().notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [primaryKey({ columns: [table.gatewayId, table.version] })],
);

/** What members are told; `once` keeps the same thing from being told twice. */
export const notices = mysqlTable(
  'notices',
  {
    id: id().primaryKey(),
    environmentId: id('environmentId').references(() => environments.id, { onDelete: 'cascade' }),
    once: varchar('once', { length: 200 }).notNull(),
    title: varchar('title', { length: 200 }).notNull(),
    body: varchar('body', { length: 1000 }).notNull(),
    link: varchar('link', { length: 300 }),
    at: instant('at').notNull(),
  },
  (table) => [uniqueIndex('notices_once').on(table.once), index('notices_at').on(table.at)],
);

/** Up to when each member has read. */
export const noticesRead = mysqlTable('noticesRead', {
  memberId: id('memberId')
    .primaryKey()
    .references(() => members.id, { onDelete: 'cascade' }),
  until: instant('until').notNull(),
});

export const blockedOrigins = mysqlTable(
  'blockedOrigins',
  {
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    client: varchar('client', { length: 40 }).notNull(),
    origin: varchar('origin', { length: 253 }).notNull(),
    count: int('count').notNull(),
    lastRoute: varchar('lastRoute', { length: 200 }).notNull(),
    firstAt: instant('firstAt').notNull(),
    lastAt: instant('lastAt').notNull(),
  },
  (table) => [primaryKey({ columns: [table.environmentId, table.client, table.origin] })],
);

/** Work to be done, taken with SKIP LOCKED; one that is not finished is taken again when its lease runs out. */
export const jobs = mysqlTable(
  'jobs',
  {
    id: id().primaryKey(),
    kind: varchar('kind', { length: 40 }).notNull(),
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    subject: varchar('subject', { length: 64 }).notNull(),
    runAt: instant('runAt').notNull(),
    leaseUntil: instant('leaseUntil'),
    leasedBy: varchar('leasedBy', { length: 64 }),
    /** Failures since it last went well, and the latest of them. */
    attempts: int('attempts').notNull().default(0),
    lastError: varchar('lastError', { length: 1000 }),
    failedAt: instant('failedAt'),
    /** Since when it is not tried any more. */
    gaveUpAt: instant('gaveUpAt'),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [index('jobs_due').on(table.runAt), uniqueIndex('jobs_subject').on(table.environmentId, table.kind, table.subject)],
);

/** One-time addresses for members: a password to set anew. Only hashes are kept. */
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
