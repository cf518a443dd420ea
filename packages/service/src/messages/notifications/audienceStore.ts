/**
 * Counts of an audience, each in one pass over its devices or users. Raw SQL: conditions and groups are assembled from
 * parts.
 */
import type { Audience } from '@orchard/contract';
import { usersSql } from '../../people/users/usersSql.js';
import type { Environment } from '../../platform/call.js';
import { ALLOWED, allowedSql } from '../devices/columns.js';
import { devicesSql } from '../devices/devicesSql.js';
import { gatewaySql, pushWaysOf, whySql } from '../devices/pushWays.js';
import { deviceCondition, userCondition } from './audienceSql.js';
import type { Parts } from './parts.js';
import { recipientSql } from './recipientSql.js';

export type Group = { platform: string; gateway: string | null; why: string | null; count: number; allowed?: Allowed };
/** How many devices show a notification, sound it, and put a number on the icon. */
export type Allowed = { alert: number; sound: number; badge: number };

export async function countDevices(parts: Parts, environment: Environment, audience: Audience, silent: boolean): Promise<Group[]> {
  const condition = await deviceCondition(environment, audience, parts);
  const ways = pushWaysOf(await parts.gateways.rows(environment));
  const allowed = ALLOWED.map((name) => `SUM(${allowedSql(name)}) AS ${name}`).join(', ');
  const rows = await environment.db.runRows<Omit<Group, 'allowed'> & Record<(typeof ALLOWED)[number], number>>(
    `SELECT v.platform, ${gatewaySql(ways)} AS gateway, ${whySql(ways, silent)} AS why, COUNT(*) AS count, ${allowed} FROM ${devicesSql(environment.db)} WHERE ${condition.sql} GROUP BY 1, 2, 3`,
    condition.values,
  );
  return rows.map(({ platform, gateway, why, count, allowsAlert, allowsSound, allowsBadge }) => ({
    platform,
    gateway,
    why,
    count: Number(count),
    allowed: { alert: Number(allowsAlert), sound: Number(allowsSound), badge: Number(allowsBadge) },
  }));
}

export async function countUsers(
  parts: Parts,
  environment: Environment,
  way: 'sms' | 'mail',
  gateway: string | null,
  audience: Audience,
): Promise<Group[]> {
  const { address, why } = recipientSql(environment, way, gateway);
  const condition = await userCondition(environment, audience, parts);
  const rows = await environment.db.runRows<{ why: string | null; count: number }>(
    `SELECT ${why} AS why, COUNT(DISTINCT COALESCE(${address}, u.id)) AS count FROM ${usersSql(environment.db)} WHERE ${condition.sql} GROUP BY 1`,
    condition.values,
  );
  return rows.map(({ why: reason, count }) => ({ platform: way, gateway, why: reason, count: Number(count) }));
}

/** Phone numbers of an audience, grouped by prefix, each group with a sample number. */
export async function countNumbers(
  parts: Parts,
  environment: Environment,
  audience: Audience,
): Promise<{ sample: string; count: number }[]> {
  const condition = await userCondition(environment, audience, parts);
  const rows = await environment.db.runRows<{ sample: string; count: number }>(
    `SELECT MIN(u.phone) AS sample, COUNT(DISTINCT u.phone) AS count FROM ${usersSql(environment.db)} WHERE u.phone IS NOT NULL AND ${condition.sql} GROUP BY LEFT(u.phone, 8)`,
    condition.values,
  );
  return rows.map(({ sample, count }) => ({ sample, count: Number(count) }));
}
