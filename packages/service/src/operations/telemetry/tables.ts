import { char, datetime, int, mysqlTable, primaryKey, smallint, text, varchar } from 'drizzle-orm/mysql-core';
import { instant } from '../../platform/database/columns.js';

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
  },
  (t) => [primaryKey({ columns: [t.at, t.id] })],
);

/** Counts and latency histogram of each minute, by route, client, status and the instance that counted. */
export const requestMinuteTable = mysqlTable(
  '_requestMinutes',
  {
    minute: datetime('minute', { mode: 'date' }).notNull(),
    method: varchar('method', { length: 7 }).notNull(),
    route: varchar('route', { length: 120 }).notNull(),
    client: varchar('client', { length: 40 }).notNull(),
    status: smallint('status').notNull(),
    instance: varchar('instance', { length: 16 }).notNull(),
    calls: int('calls').notNull(),
    histogram: text('histogram').notNull(),
  },
  (t) => [primaryKey({ columns: [t.minute, t.method, t.route, t.client, t.status, t.instance] })],
);
