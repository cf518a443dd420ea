/** Whom a notification would reach, whom not and why, and how large it would be. */
import { type Audience, type AudiencePreview, Problem, type Way } from '@orchard/contract';
import { own } from '@orchard/core';
import { type ContentSet, planSms, readPhoneNumber } from '@orchard/core/messages';
import { gatewaySql, pushWaysOf, whySql } from '../devices/pushWays.js';
import type { Environment } from '../../platform/call.js';
import { OptOutStore } from '../optOuts/store.js';
import type { Parts } from './parts.js';
import { deviceCondition, userCondition } from './audience.js';
import { largestAt } from './composing.js';
import { listedTargets, noGatewayWords, optedOutWords, recipientSql } from './recipients.js';
import { deviceTable } from '../devices/tables.js';
import { userTable } from '../../people/users/tables.js';

type Group = { platform: string; gateway: string | null; why: string | null; count: number };

/** Counts an audience in one pass over its devices or users. */
export async function previewAudience(
  parts: Parts,
  environment: Environment,
  way: Way,
  audience: Audience,
  content: ContentSet,
): Promise<AudiencePreview> {
  const groups =
    way === 'push'
      ? await countDevices(parts, environment, audience, content.silent ?? false)
      : await countUsers(parts, environment, way, audience);
  const total = groups.reduce((sum, { count }) => sum + count, 0);
  const reachable = groups.filter(({ why }) => !why);
  return {
    total,
    reachable: reachable.reduce((sum, { count }) => sum + count, 0),
    platforms: reachable
      .map(({ platform, gateway, count }) => ({ platform, gateway: gateway ?? '', count }))
      .sort((a, b) => b.count - a.count),
    unreachable: groups
      .filter(({ why }) => why)
      .map(({ platform, why, count }) => ({ platform, reason: why as string, count }))
      .sort((a, b) => b.count - a.count),
    sizes:
      way === 'push' ? await sizesOf(parts, environment, content, [...new Set(reachable.map(({ gateway }) => gateway as string))]) : [],
    sms: way === 'sms' ? await costOf(parts, environment, audience, content) : null,
  };
}

async function countDevices(parts: Parts, environment: Environment, audience: Audience, silent: boolean): Promise<Group[]> {
  const condition = deviceCondition(environment, audience, parts);
  const ways = pushWaysOf(await parts.gateways.rows(environment));
  const rows = await environment.db.runRows<Group>(
    `SELECT v.platform, ${gatewaySql(ways)} AS gateway, ${whySql(ways, silent)} AS why, COUNT(*) AS count FROM ${environment.db.of(deviceTable)} v WHERE ${condition.sql} GROUP BY 1, 2, 3`,
    condition.values,
  );
  return rows.map((row) => ({ ...row, count: Number(row.count) }));
}

async function countUsers(parts: Parts, environment: Environment, way: 'sms' | 'mail', audience: Audience): Promise<Group[]> {
  const listed = audience.phones ?? audience.addresses;
  const gateway = (await parts.gateways.openFor(environment, way))?.row.name ?? null;
  if (listed) {
    const targets = await listedTargets(way, listed);
    const optedOut = await new OptOutStore().among(environment, way, targets);
    const groups = [{ platform: way, gateway, why: gateway ? null : noGatewayWords(way), count: targets.length - optedOut.size }];
    return optedOut.size ? [...groups, { platform: way, gateway, why: optedOutWords(way), count: optedOut.size }] : groups;
  }
  const { address, why } = recipientSql(environment, way, gateway);
  const condition = userCondition(environment, audience, parts);
  const rows = await environment.db.runRows<{ why: string | null; count: number }>(
    `SELECT ${why} AS why, COUNT(DISTINCT COALESCE(${address}, u.id)) AS count FROM ${environment.db.of(userTable)} u WHERE ${condition.sql} GROUP BY 1`,
    condition.values,
  );
  return rows.map(({ why, count }) => ({ platform: way, gateway, why, count: Number(count) }));
}

async function sizesOf(parts: Parts, environment: Environment, content: ContentSet, gateways: string[]): Promise<AudiencePreview['sizes']> {
  const sizes: AudiencePreview['sizes'] = [];
  const notification = {
    id: '00000000-0000-7000-8000-000000000000',
    sentAt: new Date(parts.now()).toISOString(),
    urgency: 'normal',
    replaces: null,
    expiresAt: parts.now(),
  };
  for (const name of gateways) {
    const opened = await parts.gateways.open(environment, name);
    const size = opened && largestAt(opened.sender, content, notification, own(content.overlays ?? {}, name));
    if (size) sizes.push({ gateway: name, ...size });
  }
  return sizes;
}

/** Refuses what is too large for a gateway that the audience uses. @throws {Problem} message-too-large */
export async function demandSizes(parts: Parts, environment: Environment, audience: Audience, content: ContentSet): Promise<void> {
  const rows = await parts.gateways.rows(environment);
  const names = rows.filter(({ kind }) => ['web-push', 'certificate', 'token'].includes(kind)).map(({ name }) => name);
  const over = (await sizesOf(parts, environment, content, names)).filter(({ bytes, mostBytes }) => bytes > mostBytes);
  if (over.length === 0) return;
  const used = new Set((await countDevices(parts, environment, audience, content.silent ?? false)).map(({ gateway }) => gateway));
  const refused = over.find(({ gateway }) => used.has(gateway));
  if (!refused) return;
  throw new Problem(
    'message-too-large',
    `The notification takes ${refused.bytes} bytes at gateway ${refused.gateway}, which takes ${refused.mostBytes}. Shorten body or data${content.locales || content.platforms ? ' in its largest variant' : ''}.`,
  );
}

/** What an SMS to an audience costs, by the countries of its numbers. Numbers that begin alike are counted together. */
async function costOf(parts: Parts, environment: Environment, audience: Audience, content: ContentSet): Promise<AudiencePreview['sms']> {
  const { segments, encoding, forcing } = planSms(content.body ?? '');
  const { prices, currency } = await parts.messageSettings.read(environment);
  const condition = audience.phones ? null : userCondition(environment, audience, parts);
  const groups = condition
    ? await environment.db.runRows<{ sample: string; count: number }>(
        `SELECT MIN(u.phone) AS sample, COUNT(DISTINCT u.phone) AS count FROM ${environment.db.of(userTable)} u WHERE u.phone IS NOT NULL AND ${condition.sql} GROUP BY LEFT(u.phone, 8)`,
        condition.values,
      )
    : (audience.phones ?? []).map((sample) => ({ sample, count: 1 }));
  let cost = 0;
  let messages = 0;
  const unpriced = new Set<string>();
  for (const { sample, count } of groups) {
    const country = readPhoneNumber(sample).country ?? '';
    messages += Number(count);
    if (prices[country] === undefined) unpriced.add(country || 'no country');
    else cost += (prices[country] as number) * Number(count) * segments;
  }
  return {
    encoding,
    forcing,
    segments,
    messages,
    cost: Object.keys(prices).length ? Math.round(cost * 10_000) / 10_000 : null,
    currency,
    unpriced: [...unpriced].sort(),
  };
}
