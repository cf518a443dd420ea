/** Followers of topics, as SQL conditions over devices `v` or users `u`. */
import type { Environment } from '../../platform/call.js';
import { marks, type SqlCondition } from '../../platform/database/sqlCondition.js';
import { devicesSql } from '../devices/devicesSql.js';
import { followTable } from './tables.js';

/** Devices that follow one of the topics, or whose user does. */
export const deviceFollowsSql = ({ db }: Environment, topics: readonly string[]): SqlCondition => ({
  sql: `(v.id IN (SELECT follower FROM ${db.of(followTable)} WHERE kind = 'device' AND topic IN (${marks(topics)}))
      OR COALESCE(v.userId IN (SELECT follower FROM ${db.of(followTable)} WHERE kind = 'user' AND topic IN (${marks(topics)})), FALSE))`,
  values: [...topics, ...topics],
});

/** Users who follow one of the topics, or one of whose devices does. */
export const userFollowsSql = ({ db }: Environment, topics: readonly string[]): SqlCondition => ({
  sql: `(u.id IN (SELECT follower FROM ${db.of(followTable)} WHERE kind = 'user' AND topic IN (${marks(topics)}))
      OR u.id IN (SELECT v.userId FROM ${devicesSql(db)} JOIN ${db.of(followTable)} f ON f.kind = 'device' AND f.follower = v.id WHERE f.topic IN (${marks(topics)}) AND v.userId IS NOT NULL))`,
  values: [...topics, ...topics],
});
