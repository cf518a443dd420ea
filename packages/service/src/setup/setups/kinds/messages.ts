/** What messages go through and to: gateways, topics, channels, settings, standing notifications. */
import { counted, operations } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { SetupCalls } from '../calls.js';
import { byName, type KindWays, losing, type NamedParts, named, once, pick } from './kind.js';

const GATEWAY = operations.gateways;
/** What a gateway is once and for all. */
const FIXED = ['kind', 'stage', 'client'] as const;

async function readGateways(calls: SetupCalls): Promise<NamedParts> {
  const { items } = await calls.read(GATEWAY.list);
  const parts: NamedParts = {};
  for (const { name, kind, stage, client, settings, mapping } of items) {
    // Each environment has its own for web push, with a key that stays here.
    if (kind === 'web-push') continue;
    const [version] = mapping ? (await calls.read(GATEWAY.mappings, { params: { gateway: name }, query: { limit: '1' } })).items : [];
    parts[name] = { kind, stage, ...(client ? { client } : {}), settings, ...(version ? { mapping: version.document as JsonObject } : {}) };
  }
  return parts;
}

/** The values of the secrets that hold a credential. */
async function credentialOf(calls: SetupCalls, part: JsonObject): Promise<Record<string, string>> {
  const named = Object.entries((part.credential ?? {}) as Record<string, string>);
  return Object.fromEntries(await Promise.all(named.map(async ([member, secret]) => [member, await calls.secret(secret)])));
}

async function putGateway(calls: SetupCalls, name: string, part: JsonObject, before: JsonObject | null): Promise<void> {
  const { credential: _, settings, mapping, ...rest } = part;
  if (!before) {
    const body = { name, ...rest, settings, ...(mapping ? { mapping } : {}), ...(await credentialOf(calls, part)) };
    await calls.write(GATEWAY.create, { body: Object.fromEntries(Object.entries(body).filter(([, value]) => value !== null)) });
    return;
  }
  const params = { gateway: name };
  if (JSON.stringify(settings) !== JSON.stringify(before.settings)) {
    const left = Object.keys(before.settings as object).filter((member) => !Object.hasOwn(settings as object, member));
    // A merge patch (RFC 7396) removes by null.
    const patch = { ...(settings as object), ...Object.fromEntries(left.map((member) => [member, null])) };
    await calls.write(GATEWAY.patch, { params, body: { settings: patch } });
  }
  if (mapping && JSON.stringify(mapping) !== JSON.stringify(before.mapping))
    await calls.write(GATEWAY.putMapping, { params, body: mapping });
}

export const gatewayWays: KindWays = byName('the gateway', {
  read: readGateways,
  // The credential cannot be read back.
  normal: ({ credential: _, client, ...part }) => ({ ...part, ...(client ? { client } : {}) }),
  put: putGateway,
  remove: (calls, name) => calls.write(GATEWAY.remove, { params: { gateway: name } }),
  judge: async ({ action, before, after, name }, calls) => {
    const fixed = FIXED.find((member) => action === 'change' && before?.[member] !== after?.[member]);
    if (fixed)
      return {
        effects: [],
        blocked: `the ${fixed} of a gateway cannot be changed. Give the gateway another name: the former one is removed.`,
      };
    if (action !== 'drop') return { effects: [] };
    const { lastDay } = await calls.read(GATEWAY.read, { params: { gateway: name } });
    const effects =
      lastDay.accepted > 0
        ? [{ text: `${counted(lastDay.accepted, 'message')} went through it in the last day`, loses: false, lockMs: 0 }]
        : [];
    return { effects: [...effects, { text: 'Its credential is deleted', loses: true, lockMs: 0 }] };
  },
});

async function allTopics(calls: SetupCalls) {
  const items = [];
  for (let cursor: string | undefined; ; ) {
    const page = await calls.read(operations.topics.list, { query: { limit: '1000', ...(cursor ? { cursor } : {}) } });
    items.push(...page.items);
    cursor = page.next;
    if (!cursor) return items;
  }
}

export const topicWays = byName('the topic', {
  read: async (calls) => named(await allTopics(calls), ['title', 'role']),
  put: (calls, topic, body) => calls.write(operations.topics.put, { params: { topic }, body }),
  remove: (calls, topic) => calls.write(operations.topics.remove, { params: { topic } }),
  judge: async ({ action, name }, calls) => {
    if (action !== 'drop') return { effects: [] };
    const { devices, users } = await calls.read(operations.topics.read, { params: { topic: name } });
    return losing(`${counted(devices, 'device')} and ${counted(users, 'user')} follow it no longer`, devices + users);
  },
});

export const channelWays = byName('the channel', {
  read: async (calls) => named((await calls.read(operations.channels.list)).items, ['rules', 'keep']),
  put: (calls, channel, body) => calls.write(operations.channels.put, { params: { channel }, body }),
  remove: (calls, channel) => calls.write(operations.channels.remove, { params: { channel } }),
  judge: async ({ action, name }, calls) => {
    if (action !== 'drop') return { effects: [] };
    const { messages } = await calls.read(operations.channels.read, { params: { channel: name } });
    return losing(`${counted(messages, 'kept message')} ${messages === 1 ? 'is' : 'are'} deleted with it`, messages);
  },
});

export const messagingWays = once(
  'the settings of messages',
  async (calls) => {
    const { currency, ...settings } = await calls.read(operations.sms.settings);
    return { ...settings, ...(currency ? { currency } : {}) } as JsonObject;
  },
  (calls, body) => calls.write(operations.sms.patchSettings, { body }),
);

const STANDING = operations.standing;
const ABOUT = ['id', 'name', 'createdBy', 'createdAt', 'next', 'sent', 'problem'];
export const standingWays = byName('the standing notification', {
  read: async (calls) => {
    const { items } = await calls.read(STANDING.list);
    return Object.fromEntries(
      items.map((one) => [
        one.name,
        pick(
          one,
          Object.keys(STANDING.add.body?.shape ?? {}).filter((name) => !ABOUT.includes(name)),
        ),
      ]),
    );
  },
  put: async (calls, name, part) => {
    const known = (await calls.read(STANDING.list)).items.find((one) => one.name === name);
    const body = { name, ...part };
    return known ? calls.write(STANDING.change, { params: { standing: known.id }, body }) : calls.write(STANDING.add, { body });
  },
  remove: async (calls, name) => {
    const known = (await calls.read(STANDING.list)).items.find((one) => one.name === name);
    if (known) await calls.write(STANDING.remove, { params: { standing: known.id } });
  },
});
