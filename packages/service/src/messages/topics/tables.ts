import { index, mysqlTable, primaryKey, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

/** Anyone may follow a topic without a role; otherwise users with the role. */
export const topicTable = mysqlTable('_topics', {
  name: varchar('name', { length: 200 }).primaryKey(),
  title: varchar('title', { length: 200 }),
  role: varchar('role', { length: 40 }),
  createdBy: varchar('createdBy', { length: 300 }).notNull(),
  createdAt: instant('createdAt').notNull(),
});

export const followTable = mysqlTable(
  '_follows',
  {
    topic: varchar('topic', { length: 200 }).notNull(),
    /** `device` or `user`. */
    kind: varchar('kind', { length: 6 }).notNull(),
    follower: id('follower').notNull(),
    at: instant('at').notNull(),
  },
  (t) => [primaryKey({ columns: [t.topic, t.kind, t.follower] }), index('follows_follower').on(t.kind, t.follower)],
);
