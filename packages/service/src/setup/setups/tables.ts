import { char, json, longtext, mysqlTable, smallint, index, tinyint, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Who acts in a release, and comes back to act after a restart. */
export type ReleaseMember = { id: string; email: string; name: string; owner: boolean; via: 'cookie' | 'token' | 'automation' };
export type ReleaseState = 'proposed' | 'running' | 'done' | 'returning' | 'returned' | 'refused' | 'failed';

/** Changes of the setup as a whole: what was wanted, what was there, and what came of it. */
export const releaseTable = mysqlTable(
  '_releases',
  {
    id: id().primaryKey(),
    state: varchar('state', { length: 20 }).$type<ReleaseState>().notNull(),
    member: json('member').$type<ReleaseMember>().notNull(),
    by: varchar('by', { length: 200 }).notNull(),
    at: instant('at').notNull(),
    why: varchar('why', { length: 1000 }).notNull(),
    from: varchar('from', { length: 200 }),
    decidedBy: varchar('decidedBy', { length: 200 }),
    decision: varchar('decision', { length: 1000 }),
    /** Digest of the setup that it was compared with. */
    base: char('base', { length: 64 }).notNull(),
    /** JSON: parts by kind and name. */
    wanted: longtext('wanted').notNull(),
    before: longtext('before').notNull(),
    difference: longtext('difference').notNull(),
    /** Steps done, and of how many. */
    done: smallint('done').notNull().default(0),
    total: smallint('total').notNull().default(0),
    doing: varchar('doing', { length: 300 }),
    problem: varchar('problem', { length: 2000 }),
    endedAt: instant('endedAt'),
  },
  (t) => [index('releases_at').on(t.at)],
);

/** One row: the demand for a second member, and the release that is being applied. */
export const setupSettingTable = mysqlTable('_setupSettings', {
  id: tinyint('id').primaryKey(),
  approval: tinyint('approval').notNull().default(0),
  running: char('running', { length: 36 }),
});
