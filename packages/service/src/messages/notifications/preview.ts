/** Reachable and unreachable recipients of a notification, and its size. */
import { type Audience, type AudiencePreview, Problem, type Way } from '@orchard/contract';
import { own } from '@orchard/core';
import { type ContentSet, planSms, readPhoneNumber } from '@orchard/core/messages';
import type { Environment } from '../../platform/call.js';
import { OptOutStore } from '../optOuts/store.js';
import type { Parts } from './parts.js';
import { type Allowed, countDevices, countNumbers, countUsers, type Group } from './audienceStore.js';
import { prepareAudience } from './audienceSql.js';
import { largestAt } from './composing.js';
import { listedTargets, noGatewayWords, optedOutWords } from './recipientSql.js';

/** Counts an audience in one pass over its devices or users. */
export async function previewAudience(
  parts: Parts,
  environment: Environment,
  way: Way,
  audience: Audience,
  content: ContentSet,
): Promise<AudiencePreview> {
  const behaviourAt = await prepareAudience(parts, environment, audience);
  const groups =
    way === 'push'
      ? await countDevices(parts, environment, audience, content.silent ?? false)
      : await countRecipients(parts, environment, way, audience);
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
    allowed: way === 'push' ? allowedOf(reachable) : null,
    sizes:
      way === 'push' ? await sizesOf(parts, environment, content, [...new Set(reachable.map(({ gateway }) => gateway as string))]) : [],
    behaviourAt: behaviourAt?.toISOString() ?? null,
    sms: way === 'sms' ? await costOf(parts, environment, audience, content) : null,
  };
}

const allowedOf = (groups: readonly Group[]) => {
  const sum = (name: keyof Allowed) => groups.reduce((total, { allowed }) => total + (allowed?.[name] ?? 0), 0);
  return { alert: sum('alert'), sound: sum('sound'), badge: sum('badge') };
};

async function countRecipients(parts: Parts, environment: Environment, way: 'sms' | 'mail', audience: Audience): Promise<Group[]> {
  const listed = audience.phones ?? audience.addresses;
  const gateway = (await parts.gateways.openFor(environment, way))?.row.name ?? null;
  if (!listed) return countUsers(parts, environment, way, gateway, audience);
  const targets = await listedTargets(way, listed);
  const optedOut = await new OptOutStore().among(environment, way, targets);
  const groups = [{ platform: way, gateway, why: gateway ? null : noGatewayWords(way), count: targets.length - optedOut.size }];
  return optedOut.size ? [...groups, { platform: way, gateway, why: optedOutWords(way), count: optedOut.size }] : groups;
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

/**
 * Refuses a notification that is too large for a gateway of its audience.
 * @throws {Problem} message-too-large
 */
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
    `The notification has ${refused.bytes} bytes at gateway ${refused.gateway}, which allows ${refused.mostBytes}. Shorten body or data${content.locales || content.platforms ? ' in its largest variant' : ''}.`,
  );
}

/** The cost of an SMS to an audience, by the countries of its numbers. Numbers with the same prefix are counted together. */
async function costOf(parts: Parts, environment: Environment, audience: Audience, content: ContentSet): Promise<AudiencePreview['sms']> {
  const { segments, encoding, forcing } = planSms(content.body ?? '');
  const { prices, currency } = await parts.messageSettings.read(environment);
  const groups = audience.phones?.map((sample) => ({ sample, count: 1 })) ?? (await countNumbers(parts, environment, audience));
  let cost = 0;
  let messages = 0;
  const unpriced = new Set<string>();
  for (const { sample, count } of groups) {
    const country = readPhoneNumber(sample).country ?? '';
    messages += count;
    if (prices[country] === undefined) unpriced.add(country || 'no country');
    else cost += (prices[country] as number) * count * segments;
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
