import { json, mysqlTable, varchar } from 'drizzle-orm/mysql-core';
import { instant } from '../../platform/database/columns.js';
import type { Findings, StoredSettling } from './findings.js';

/** What the latest evaluation found, for each environment and for the installation. */
export const conditionTable = mysqlTable('conditions', {
  environmentId: varchar('environmentId', { length: 64 }).primaryKey(),
  condition: varchar('condition', { length: 10 }).notNull(),
  since: instant('since').notNull(),
  evaluatedAt: instant('evaluatedAt').notNull(),
  settling: json('settling').$type<StoredSettling>().notNull(),
  findings: json('findings').$type<Findings>().notNull(),
});
