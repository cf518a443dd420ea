/** Tables of the system database. Changes become a migration: `npm run migration -- system <name>`. */
import { boolean, char, datetime, index, int, json, mysqlTable, primaryKey, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';

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

/** How an environment reaches push networks; `sealed` holds the credentials, encrypted. */
export const gateways = mysqlTable(
  'gateways',
  {
    environmentId: id('environmentId')
      .notNull()
      .references(() => environments.id, { onDelete: 'cascade' }),
    kind: varchar('kind', { length: 20 }).notNull(),
    sealed: text('sealed').notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [primaryKey({ columns: [table.environmentId, table.kind] })],
);

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
    createdAt: instant('createdAt').notNull(),
  },
  (table) => [index('jobs_due').on(table.runAt)],
);

/** Small facts about the installation, such as the hash of the one-time setup token. */
export const settings = mysqlTable('settings', {
  name: varchar('name', { length: 60 }).primaryKey(),
  value: text('value').notNull(),
});
