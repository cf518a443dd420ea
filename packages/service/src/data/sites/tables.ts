import type { SiteFile, SiteHeader, SiteRedirect } from '@orchard/core';
import { char, index, int, json, longtext, mysqlTable, primaryKey, varchar, bigint } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

const name = () => varchar('site', { length: 40 }).notNull();

export const siteTable = mysqlTable('_sites', {
  name: varchar('name', { length: 40 }).primaryKey(),
  client: varchar('client', { length: 40 }).notNull(),
  fallback: varchar('fallback', { length: 300 }),
  redirects: json('redirects').$type<SiteRedirect[]>().notNull(),
  headers: json('headers').$type<SiteHeader[]>().notNull(),
  hosts: json('hosts').$type<string[]>().notNull(),
  keep: int('keep').notNull(),
  /** The version in force; 0 for none. */
  version: int('version').notNull(),
  createdBy: varchar('createdBy', { length: 300 }).notNull(),
  createdAt: instant('createdAt').notNull(),
  changedAt: instant('changedAt').notNull(),
});

export const siteVersionTable = mysqlTable(
  '_siteVersions',
  {
    site: name(),
    version: int('version').notNull(),
    /** By path, as JSON. */
    files: longtext('files').$type<string>().notNull(),
    count: int('count').notNull(),
    bytes: bigint('bytes', { mode: 'number' }).notNull(),
    note: varchar('note', { length: 200 }).notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  },
  (t) => [primaryKey({ columns: [t.site, t.version] })],
);
export type SiteFiles = Record<string, SiteFile>;

/** Which contents the versions have, so that these are kept. */
export const siteContentTable = mysqlTable(
  '_siteContents',
  { site: name(), version: int('version').notNull(), digest: char('digest', { length: 64 }).notNull() },
  (t) => [primaryKey({ columns: [t.site, t.version, t.digest] }), index('siteContents_digest').on(t.digest)],
);

export const siteLoadTable = mysqlTable(
  '_siteLoads',
  {
    site: name(),
    hour: instant('hour').notNull(),
    page: varchar('page', { length: 200 }).notNull(),
    status: int('status').notNull(),
    loads: int('loads').notNull(),
    lastAt: instant('lastAt').notNull(),
  },
  (t) => [primaryKey({ columns: [t.site, t.hour, t.page, t.status] })],
);

export const siteReportTable = mysqlTable(
  '_siteReports',
  {
    id: id().primaryKey(),
    site: name(),
    kind: varchar('kind', { length: 40 }).notNull(),
    directive: varchar('directive', { length: 100 }).notNull(),
    blocked: varchar('blocked', { length: 300 }).notNull(),
    page: varchar('page', { length: 300 }).notNull(),
    count: int('count').notNull(),
    lastAt: instant('lastAt').notNull(),
  },
  (t) => [index('siteReports_site').on(t.site, t.lastAt)],
);
