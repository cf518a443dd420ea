import type { UpstreamDefinition } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { index, int, json, mediumtext, mysqlTable, primaryKey, text, varchar } from 'drizzle-orm/mysql-core';
import { instant } from '../../platform/database/columns.js';

/** Systems of others. Their credentials are secrets, which the definition names. */
export const upstreamTable = mysqlTable('_upstreams', {
  name: varchar('name', { length: 40 }).primaryKey(),
  definition: json('definition').$type<UpstreamDefinition>().notNull(),
  /** Its OpenAPI document. */
  description: mediumtext('description'),
  check: json('check').$type<JsonObject>(),
  createdBy: varchar('createdBy', { length: 300 }).notNull(),
  changedAt: instant('changedAt').notNull(),
});

/** Answers that were recorded, to be played back. */
export const upstreamRecordingTable = mysqlTable(
  '_upstreamRecordings',
  {
    upstream: varchar('upstream', { length: 40 }).notNull(),
    /** A hash of method, path, query and body. */
    mark: varchar('mark', { length: 64 }).notNull(),
    asked: text('asked').notNull(),
    status: int('status').notNull(),
    headers: json('headers').$type<Record<string, string>>().notNull(),
    body: mediumtext('body').notNull(),
    at: instant('at').notNull(),
  },
  (t) => [primaryKey({ columns: [t.upstream, t.mark] }), index('upstream_recordings_at').on(t.at)],
);
