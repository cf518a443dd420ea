import type { Objective } from '@orchard/contract';
import { bigint, double, index, int, json, mysqlTable, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Every version of the environment's objectives; the highest one is in force. */
export const objectiveSetTable = mysqlTable('_objectiveSets', {
  version: int('version').primaryKey(),
  items: json('items').$type<Objective[]>().notNull(),
  at: instant('at').notNull(),
  actor: varchar('actor', { length: 200 }).notNull(),
  why: varchar('why', { length: 500 }),
});

/** When the environment's condition changed, and by which objective. */
export const conditionChangeTable = mysqlTable(
  '_conditionChanges',
  {
    number: bigint('number', { mode: 'number' }).autoincrement().primaryKey(),
    at: instant('at').notNull(),
    condition: varchar('condition', { length: 10 }).notNull(),
    /** The worst objective at that time; null for none. */
    objective: varchar('objective', { length: 40 }),
    value: double('value'),
    text: text('text'),
  },
  (t) => [index('condition_changes_at').on(t.at)],
);

/** Stretches in which nobody is alerted and no error budget is spent. */
export const plannedWorkTable = mysqlTable(
  '_plannedWork',
  {
    id: id().primaryKey(),
    from: instant('from').notNull(),
    until: instant('until').notNull(),
    why: varchar('why', { length: 500 }).notNull(),
    by: varchar('by', { length: 200 }).notNull(),
  },
  (t) => [index('planned_until').on(t.until)],
);
