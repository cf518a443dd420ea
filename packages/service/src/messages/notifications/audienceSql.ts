/** The audience as SQL over devices `v` or users `u`. */
import { type Audience, Problem } from '@orchard/contract';
import { planList } from '../../platform/database/listing.js';
import { deviceColumns } from '../devices/columns.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { deviceFunctions, prepareBehaviour } from '../devices/behaviour.js';
import { devicesSql } from '../devices/devicesSql.js';
import { marks, type SqlCondition } from '../../platform/database/sqlCondition.js';
import { listensSql } from '../presence/store.js';
import { deviceFollowsSql, userFollowsSql } from '../topics/followsSql.js';

type Ground = Pick<Parts, 'cursorSecret' | 'now' | 'ports'>;
type Topics = NonNullable<Audience['topics']>;

const TRUE: SqlCondition = { sql: 'TRUE', values: [] };

/** The joins of lists are not needed for a filter alone. */
async function filterSql(environment: Environment, filter: string, parts: Ground): Promise<SqlCondition> {
  const functions = deviceFunctions(parts, environment);
  const { where, values } = planList(
    await deviceColumns(parts, environment),
    { filter, limit: 1 },
    { field: 'id', descending: false },
    parts,
    functions,
  );
  return { sql: where, values };
}

function join(conditions: SqlCondition[], word: 'AND' | 'OR' = 'AND'): SqlCondition {
  if (conditions.length === 0) return TRUE;
  return { sql: `(${conditions.map(({ sql }) => sql).join(` ${word} `)})`, values: conditions.flatMap(({ values }) => values) };
}

function topicsSql(topics: Topics, follows: (names: readonly string[]) => SqlCondition): SqlCondition {
  const conditions: SqlCondition[] = [];
  if (topics.any) conditions.push(follows(topics.any));
  for (const name of topics.all ?? []) conditions.push(follows([name]));
  if (topics.not) {
    const { sql, values } = follows(topics.not);
    conditions.push({ sql: `NOT ${sql}`, values });
  }
  return join(conditions);
}

/** What must be counted before an audience is turned into SQL. @returns as of when it was @throws {Problem} malformed-filter */
export const prepareAudience = (parts: Parts, environment: Environment, { filter }: Audience): Promise<Date | null> =>
  prepareBehaviour(parts, environment, filter);

/** The devices of an audience. {@link prepareAudience} comes first. */
export async function deviceCondition(environment: Environment, audience: Audience, parts: Ground): Promise<SqlCondition> {
  const conditions: SqlCondition[] = [];
  if (audience.everyone) conditions.push({ sql: 'v.retiredAt IS NULL', values: [] });
  const users = audience.users ?? (audience.user ? [audience.user] : null);
  if (users) conditions.push({ sql: `v.userId IN (${marks(users)})`, values: users });
  const devices = audience.devices ?? (audience.device ? [audience.device] : null);
  if (devices) conditions.push({ sql: `v.id IN (${marks(devices)})`, values: devices });
  if (audience.topics) conditions.push(topicsSql(audience.topics, (names) => deviceFollowsSql(environment, names)));
  if (audience.filter) conditions.push(await filterSql(environment, audience.filter, parts));
  if (audience.notListening) {
    const { sql, values } = listensSql(environment, audience.notListening, new Date(parts.now()));
    conditions.push({ sql: `NOT ${sql}`, values });
  }
  return join(conditions);
}

/** The users of an audience, themselves or by their devices. */
export async function userCondition(environment: Environment, audience: Audience, parts: Ground): Promise<SqlCondition> {
  const { db } = environment;
  if (audience.everyone) return TRUE;
  const users = audience.users ?? (audience.user ? [audience.user] : null);
  if (users) return { sql: `u.id IN (${marks(users)})`, values: users };
  const conditions: SqlCondition[] = [];
  if (audience.topics) conditions.push(topicsSql(audience.topics, (names) => userFollowsSql(environment, names)));
  const { topics: _topics, ...rest } = audience;
  if (Object.values(rest).some((value) => value !== undefined)) {
    const devices = await deviceCondition(environment, rest, parts);
    conditions.push({
      sql: `u.id IN (SELECT v.userId FROM ${devicesSql(db)} WHERE ${devices.sql} AND v.userId IS NOT NULL)`,
      values: devices.values,
    });
  }
  return join(conditions);
}

/**
 * An audience that does not fit the way.
 * @throws {Problem} invalid-input
 */
export function demandFitting(way: string, audience: Audience): void {
  const wrong = audience.phones && way !== 'sms' ? 'phones' : audience.addresses && way !== 'mail' ? 'addresses' : null;
  if (!wrong) return;
  const wanted = wrong === 'phones' ? 'sms' : 'mail';
  throw new Problem('invalid-input', `An audience of ${wrong} goes with \`"way": "${wanted}"\`; the way is ${way}.`, {
    fields: [{ path: `body.audience.${wrong}`, problem: `The way is ${way}.`, expected: `"way": "${wanted}"` }],
  });
}
