/**
 * Creates the deliveries of a notification in slices, each with a job that sends it. Raw SQL: each slice is one INSERT …
 * SELECT of thousands of rows.
 */
import { type DeliveryState, Problem } from '@orchard/contract';
import { dueAt } from '@orchard/core/messages';
import type { Statements } from '../../platform/database/connection.js';
import { gatewaySql, pushWaysOf, whySql } from '../devices/pushWays.js';
import type { Environment } from '../../platform/call.js';
import { OptOutStore } from '../optOuts/store.js';
import type { Parts } from './parts.js';
import type { SqlCondition } from '../../platform/database/sqlCondition.js';
import { deviceCondition, userCondition } from './audienceSql.js';
import { optedOutWords, recipientSql } from './recipientSql.js';
import type { SentNotification } from './store.js';
import { devicesSql, zoneOfUserSql } from '../devices/devicesSql.js';
import { deliveryTable, notificationTable } from './tables.js';
import { usersSql } from '../../people/users/usersSql.js';

/** Deliveries in one slice: what one instance works on at a time. */
export const SLICE = 5_000;
/** The first slice is created while the caller waits for the response, and is sent while the next one is created. */
const FIRST_SLICE = 1_000;
const sliceOf = ({ slices }: SentNotification): number => (slices === 0 ? FIRST_SLICE : SLICE);
export const SEND_JOB = 'send-notification';
export const SPREAD_JOB = 'spread-notification';

const COLUMNS = 'notificationId, target, slice, way, gateway, userId, platform, variant, state, reason, attempts, nextAttemptAt, updatedAt';

/**
 * Creates the next slice of deliveries, stores its position, and adds the job that sends it. Run in a transaction: all or
 * nothing.
 * @returns how many were created, and whether the audience is complete
 */
export async function spreadNext(
  parts: Parts,
  on: Statements,
  environment: Environment,
  sent: SentNotification,
): Promise<{ made: number; through: boolean }> {
  const { phones, addresses } = sent.audience;
  const listed = phones ?? addresses;
  const { made, upTo } = listed
    ? await spreadList(parts, on, environment, sent, listed)
    : sent.way === 'push'
      ? await spreadDevices(parts, on, environment, sent)
      : await spreadUsers(parts, on, environment, sent);
  const through = upTo === null;
  if (made > 0) await parts.jobs.add(on, environment, SEND_JOB, `${sent.id}:${sent.slices}`);
  await on.change(`UPDATE ${environment.db.of(notificationTable)} SET spreadTo = ?, spread = ?, slices = slices + 1 WHERE id = ?`, [
    upTo,
    through,
    sent.id,
  ]);
  sent.slices++;
  sent.spreadTo = upTo;
  return { made, through };
}

type Spread = { made: number; upTo: string | null };

/** The last id of the next slice; null for the last slice. */
async function boundary(on: Statements, from: string, id: string, condition: SqlCondition, sent: SentNotification): Promise<string | null> {
  const [row] = await on.rows<{ id: string }>(
    `SELECT ${id} AS id FROM ${from} WHERE ${condition.sql} AND ${id} > ? ORDER BY ${id} LIMIT 1 OFFSET ${sliceOf(sent) - 1}`,
    [...condition.values, sent.spreadTo ?? ''],
  );
  return row?.id ?? null;
}

/** When a delivery is due, as SQL over a time zone's name; with the values of its marks. */
async function dueSql(
  parts: Parts,
  on: Statements,
  environment: Environment,
  { start, quiet }: SentNotification,
  zone: string,
): Promise<SqlCondition> {
  const now = parts.now();
  const local = start && 'local' in start ? start.local : undefined;
  if (!local && !quiet) return { sql: '?', values: [new Date(now)] };
  const zones = await on.rows<{ timeZone: string }>(`SELECT DISTINCT timeZone FROM ${devicesSql(environment.db)}`);
  const values = zones.flatMap(({ timeZone }) => [timeZone, new Date(dueAt(now, timeZone, { local, quiet }))]);
  const otherwise = new Date(dueAt(now, 'UTC', { local, quiet }));
  return {
    sql: `CASE ${zone} ${zones.map(() => 'WHEN ? THEN CAST(? AS DATETIME(3))').join(' ')} ELSE CAST(? AS DATETIME(3)) END`,
    values: [...values, otherwise],
  };
}

/** Which group of a comparison a target is in, by a hash of both, so that it is the same however often it is asked. */
const variantSql = (sent: SentNotification, id: string): SqlCondition =>
  sent.content.second
    ? { sql: `IF(CRC32(CONCAT(?, ${id})) / 4294967296 < ?, 'b', 'a')`, values: [sent.id, sent.content.second.share] }
    : { sql: "'a'", values: [] };

async function spreadDevices(parts: Parts, on: Statements, environment: Environment, sent: SentNotification): Promise<Spread> {
  const from = devicesSql(environment.db);
  const condition = await deviceCondition(environment, sent.audience, parts);
  const upTo = await boundary(on, from, 'v.id', condition, sent);
  const ways = pushWaysOf(await parts.gateways.rows(environment));
  const due = await dueSql(parts, on, environment, sent, 'v.timeZone');
  const variant = variantSql(sent, 'v.id');
  const { affectedRows } = await on.change(
    `INSERT INTO ${environment.db.of(deliveryTable)} (${COLUMNS})
     SELECT ?, id, ?, 'push', gateway, userId, platform, variant, IF(why IS NULL, 'queued', 'skipped'), why, 0, IF(why IS NULL, due, NULL), ? FROM (
       SELECT v.id, v.userId, v.platform, ${gatewaySql(ways)} AS gateway, ${whySql(ways, sent.content.silent ?? false)} AS why, ${variant.sql} AS variant, ${due.sql} AS due
       FROM ${from} WHERE ${condition.sql} AND v.id > ? ${upTo ? 'AND v.id <= ?' : ''}) AS addressed`,
    [
      sent.id,
      sent.slices,
      new Date(parts.now()),
      ...variant.values,
      ...due.values,
      ...condition.values,
      sent.spreadTo ?? '',
      ...(upTo ? [upTo] : []),
    ],
  );
  return { made: affectedRows, upTo };
}

/** Users by phone number or mail address; two with the same one get one message. */
export function userDeliveries(
  parts: Parts,
  environment: Environment,
  sent: SentNotification,
  way: 'sms' | 'mail',
  gateway: string | null,
  due: SqlCondition,
  condition: SqlCondition,
): SqlCondition {
  const { address, why } = recipientSql(environment, way, gateway);
  const variant = variantSql(sent, 'u.id');
  return {
    sql: `INSERT IGNORE INTO ${environment.db.of(deliveryTable)} (${COLUMNS})
      SELECT ?, COALESCE(address, id), ?, '${way}', ?, id, '${way}', variant, IF(why IS NULL, 'queued', 'skipped'), why, 0, IF(why IS NULL, due, NULL), ? FROM (
        SELECT u.id, ${address} AS address, ${variant.sql} AS variant, ${due.sql} AS due, ${why} AS why
        FROM ${usersSql(environment.db)} WHERE ${condition.sql}) AS addressed`,
    values: [sent.id, sent.slices, gateway, new Date(parts.now()), ...variant.values, ...due.values, ...condition.values],
  };
}

async function spreadUsers(parts: Parts, on: Statements, environment: Environment, sent: SentNotification): Promise<Spread> {
  const way = sent.way as 'sms' | 'mail';
  const base = await userCondition(environment, sent.audience, parts);
  const upTo = await boundary(on, usersSql(environment.db), 'u.id', base, sent);
  const condition = {
    sql: `${base.sql} AND u.id > ? ${upTo ? 'AND u.id <= ?' : ''}`,
    values: [...base.values, sent.spreadTo ?? '', ...(upTo ? [upTo] : [])],
  };
  const due = await dueSql(parts, on, environment, sent, zoneOfUserSql(environment.db));
  const gateway = await parts.gateways.openFor(environment, way);
  const { sql, values } = userDeliveries(parts, environment, sent, way, gateway?.row.name ?? null, due, condition);
  const { affectedRows } = await on.change(sql, values);
  return { made: affectedRows, upTo };
}

/** Numbers or addresses listed one by one; the position is an index into the list. */
async function spreadList(
  parts: Parts,
  on: Statements,
  environment: Environment,
  sent: SentNotification,
  listed: readonly string[],
): Promise<Spread> {
  const way = sent.way as 'sms' | 'mail';
  const gateway = await parts.gateways.openFor(environment, way);
  if (!gateway)
    throw new Problem(
      'gateway-missing',
      `${environment.app}/${environment.name} has no gateway for ${way === 'sms' ? 'SMS' : 'mail'}. Add one with \`orchard gateway add\`.`,
    );
  const from = Number(sent.spreadTo ?? 0);
  const upTo = from + sliceOf(sent);
  const targets = listed.slice(from, upTo);
  const optedOut = await new OptOutStore().among(environment, way, targets, on);
  const due = new Date(dueAt(parts.now(), 'UTC', { quiet: sent.quiet }));
  const refused = targets.filter((target) => optedOut.has(target));
  const open = refused.length > 0 ? targets.filter((target) => !optedOut.has(target)) : targets;
  const add = (some: readonly string[], state: DeliveryState, reason: string | null, nextAttemptAt: Date | null) =>
    // As one JSON text, which MariaDB reads in half the time of as many rows of values.
    on.run(
      `INSERT INTO ${environment.db.of(deliveryTable)} (notificationId, target, slice, way, gateway, platform, state, reason, nextAttemptAt, updatedAt)
       SELECT ?, target, ?, ?, ?, ?, ?, ?, ?, ? FROM JSON_TABLE(?, '$[*]' COLUMNS (target VARCHAR(254) PATH '$')) AS listed`,
      [...[sent.id, sent.slices, way, gateway.row.name, way, state, reason, nextAttemptAt, new Date(parts.now())], JSON.stringify(some)],
    );
  if (open.length > 0) await add(open, 'queued', null, due);
  if (refused.length > 0) await add(refused, 'skipped', optedOutWords(way), null);
  return { made: targets.length, upTo: upTo < listed.length ? String(upTo) : null };
}
