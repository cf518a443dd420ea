import { bigint, index, int, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../database/columns.js';

/** The instances that serve this installation, each as long as it is heard of. */
export const instanceTable = mysqlTable('instances', {
  id: id().primaryKey(),
  host: varchar('host', { length: 255 }).notNull(),
  pid: int('pid').notNull(),
  port: int('port').notNull(),
  version: varchar('version', { length: 40 }).notNull(),
  /** `host:port` of the database server, or of the node of a cluster, that it uses. */
  database: varchar('database', { length: 255 }).notNull(),
  state: varchar('state', { length: 10 }).$type<'serving' | 'stopping'>().notNull(),
  /** How far its machine's clock is behind the database's; 0 where they agree. */
  clockBehindMs: int('clockBehindMs').notNull().default(0),
  startedAt: instant('startedAt').notNull(),
  seenAt: instant('seenAt').notNull(),
});

/** What callers near a rate limit have used at one instance, for the others. */
export const rateShareTable = mysqlTable(
  'rateShares',
  {
    entry: bigint('entry', { mode: 'number' }).autoincrement().primaryKey(),
    instance: id('instance').notNull(),
    /** Which limit. */
    rate: varchar('rate', { length: 12 }).notNull(),
    who: varchar('who', { length: 80 }).notNull(),
    points: int('points').notNull(),
    at: instant('at').notNull(),
  },
  (t) => [index('rateShares_at').on(t.at)],
);
