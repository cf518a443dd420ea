import { char, index, json, longtext, mysqlTable, smallint } from 'drizzle-orm/mysql-core';
import { instant } from '../database/columns.js';

/** Responses to writes with an Idempotency-Key, kept for a day. */
export const answerTable = mysqlTable(
  '_answers',
  {
    key: char('key', { length: 43 }).primaryKey(),
    fingerprint: char('fingerprint', { length: 43 }).notNull(),
    status: smallint('status').notNull(),
    headers: json('headers').$type<Record<string, string>>(),
    body: longtext('body'),
    at: instant('at').notNull(),
  },
  (t) => [index('answers_at').on(t.at)],
);
