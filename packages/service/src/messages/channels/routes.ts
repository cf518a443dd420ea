import { operations } from '@orchard/contract';
import { bind, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { PresenceStore } from '../presence/store.js';
import { ChannelStreams } from './listening.js';
import { ChannelManaging } from './managing.js';
import type { Parts } from './parts.js';
import { publish } from './publishing.js';
import { ChannelAccess } from './rules.js';
import { forApps } from './sender.js';
import { ChannelStore } from './store.js';

export function channelRoutes(parts: Parts): Route[] {
  const own = operations.channels;
  const store = new ChannelStore();
  const presence = new PresenceStore();
  const access = new ChannelAccess(parts, store);
  const streams = new ChannelStreams(parts, store, presence);
  const team = new ChannelManaging(parts, store, presence);
  const audited = { read: (call: Naming<{ channel: string }>) => store.find(environmentOf(call), call.params.channel) };
  return [
    bind(own.publish, async (call) => {
      const channel = await access.demandCreated(call, call.params.channel, 'publish');
      return { body: forApps(await publish(parts, store, call, channel)) };
    }),
    bind(own.history, async (call) => {
      await access.demand(call, call.params.channel, 'listen');
      const latest = await store.latest(environmentOf(call), call.params.channel, call.query.limit);
      return { body: { items: latest.map(forApps) } };
    }),
    bind(own.live, async (call) => {
      await access.demandCreated(call, call.params.channel, 'listen');
      return streams.open(call);
    }),
    bind(own.presence, async (call) => {
      await access.demand(call, call.params.channel, 'listen');
      return { body: await presence.read(environmentOf(call), call.params.channel, parts.now()) };
    }),
    bind(
      own.publishManaged,
      async (call) => {
        const channel = await team.named(environmentOf(call), call.params.channel);
        return { body: await publish(parts, store, call, channel) };
      },
      { after: ({ number }) => ({ number }) },
    ),
    bind(own.list, async (call) => ({ body: { items: await team.list(environmentOf(call)) } })),
    bind(own.read, async (call) => ({ body: await team.show(environmentOf(call), call.params.channel) })),
    bind(own.put, (call) => team.put(call), audited),
    bind(
      own.remove,
      async (call) => {
        await team.remove(environmentOf(call), call.params.channel);
        return { body: undefined };
      },
      audited,
    ),
  ];
}
