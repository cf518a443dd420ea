import { bigint, char, datetime, index, int, mysqlTable, primaryKey, smallint, text, uniqueIndex, varchar } from 'drizzle-orm/mysql-core';
import { sql } from 'drizzle-orm';
import { id, instant } from '../../platform/database/columns.js';

export const requestTable = mysqlTable(
  '_requests',
  {
    id: char('id', { length: 36 }).notNull(),
    at: instant('at').notNull(),
    method: varchar('method', { length: 7 }).notNull(),
    route: varchar('route', { length: 120 }).notNull(),
    path: varchar('path', { length: 500 }).notNull(),
    status: smallint('status').notNull(),
    durationUs: int('durationUs').notNull(),
    databaseUs: int('databaseUs').notNull(),
    statements: smallint('statements').notNull(),
    client: varchar('client', { length: 40 }),
    keyId: varchar('keyId', { length: 64 }),
    userId: varchar('userId', { length: 64 }),
    deviceId: varchar('deviceId', { length: 64 }),
    trace: char('trace', { length: 32 }).notNull(),
    span: char('span', { length: 16 }).notNull(),
    parentSpan: char('parentSpan', { length: 16 }),
    problem: varchar('problem', { length: 40 }),
    detail: text('detail'),
    origin: varchar('origin', { length: 253 }),
    userAgent: varchar('userAgent', { length: 300 }),
    bytesIn: int('bytesIn').notNull(),
    bytesOut: int('bytesOut').notNull(),
    /** The collection or channel that the route names. */
    target: varchar('target', { length: 64 }),
    /** Of the app, as the device registered it or its user agent tells. */
    version: varchar('version', { length: 40 }),
    /** For how many calls like it the row stands. */
    keptOf: smallint('keptOf').notNull().default(1),
    /** `in`, or `out`: from the service to an outside system; then `route` is the gateway and `path` a whole address. */
    direction: varchar('direction', { length: 3 }).notNull().default('in'),
    /** Where its time went: JSON of its own steps. */
    timeline: text('timeline'),
    /** Request and response headers, credentials masked: JSON. */
    headers: text('headers'),
    /** Request and response bodies of refused and failed calls, fields masked: JSON. */
    bodies: text('bodies'),
  },
  (t) => [primaryKey({ columns: [t.at, t.id] })],
);

/** What a count is of. See Count in core. */
const counted = () => ({
  kind: varchar('kind', { length: 8 }).notNull().default('call'),
  method: varchar('method', { length: 7 }).notNull(),
  route: varchar('route', { length: 120 }).notNull(),
  target: varchar('target', { length: 64 }).notNull().default(''),
  client: varchar('client', { length: 40 }).notNull(),
  status: smallint('status').notNull(),
  problem: varchar('problem', { length: 40 }).notNull().default(''),
});
const sums = () => ({
  calls: int('calls').notNull(),
  sumUs: bigint('sumUs', { mode: 'number' }).notNull().default(0),
  /** Durations, packed. */
  histogram: text('histogram').notNull(),
});
/** By the database's clock: what reads counts as they come in goes by this, since clocks of instances differ. */
const writtenAt = () => instant('writtenAt').notNull().default(sql`(UTC_TIMESTAMP(3))`);

/** Calls and other work that ended in ten seconds, by the instance that counted. Kept for a day. */
export const cellTable = mysqlTable(
  '_requestCells',
  {
    at: datetime('at', { mode: 'date' }).notNull(),
    ...counted(),
    instance: varchar('instance', { length: 16 }).notNull(),
    ...sums(),
    writtenAt: writtenAt(),
  },
  (t) => [
    primaryKey({ name: 'cells_key', columns: [t.at, t.kind, t.method, t.route, t.target, t.client, t.status, t.problem, t.instance] }),
    index('cells_written').on(t.writtenAt),
  ],
);

/** The same for each minute, in which calls count when they come in. */
export const requestMinuteTable = mysqlTable(
  '_requestMinutes',
  {
    minute: datetime('minute', { mode: 'date' }).notNull(),
    ...counted(),
    instance: varchar('instance', { length: 16 }).notNull(),
    ...sums(),
    writtenAt: writtenAt(),
  },
  (t) => [
    primaryKey({
      name: 'minutes_key',
      columns: [t.minute, t.kind, t.method, t.route, t.target, t.client, t.status, t.problem, t.instance],
    }),
    index('minutes_written').on(t.writtenAt),
  ],
);

/** Sums of the minutes of each hour, of all instances. */
export const requestHourTable = mysqlTable(
  '_requestHours',
  { at: datetime('at', { mode: 'date' }).notNull(), ...counted(), ...sums(), writtenAt: writtenAt() },
  (t) => [
    primaryKey({ name: 'hours_key', columns: [t.at, t.kind, t.method, t.route, t.target, t.client, t.status, t.problem] }),
    index('hours_written').on(t.writtenAt),
  ],
);

/** Sums of the hours of each day, UTC. */
export const requestDayTable = mysqlTable(
  '_requestDays',
  { at: datetime('at', { mode: 'date' }).notNull(), ...counted(), ...sums(), writtenAt: writtenAt() },
  (t) => [primaryKey({ name: 'days_key', columns: [t.at, t.kind, t.method, t.route, t.target, t.client, t.status, t.problem] })],
);

/** Searches of requests and log entries that the team saved. */
export const searchTable = mysqlTable(
  '_searches',
  {
    id: id().primaryKey(),
    list: varchar('list', { length: 10 }).notNull(),
    name: varchar('name', { length: 60 }).notNull(),
    query: varchar('query', { length: 4000 }).notNull(),
    by: varchar('by', { length: 200 }).notNull(),
    at: instant('at').notNull(),
  },
  (t) => [uniqueIndex('searches_name').on(t.list, t.name)],
);
