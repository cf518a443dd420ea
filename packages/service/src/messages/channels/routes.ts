import { type Channel, operations, Problem } from '@orchard/contract';
import { compileEvaluator, flatScope, readFilter } from '@orchard/core';
import { readingFilter } from '../../platform/database/listing.js';
import { authorOf, bind, type Call, type Environment, environmentOf, explainsRefusals, type Route, untold } from '../../platform/call.js';
import { EventStream } from '../../platform/live/eventStream.js';
import { prepareNotification } from '../notifications/making.js';
import { PresenceStore } from '../presence/store.js';
import type { Parts } from './parts.js';
import { ChannelHub } from './hub.js';
import { forApps } from './sender.js';
import { type ChannelRow, type ChannelRules, ChannelStore, SIGNED_IN } from './store.js';

const SCOPE = flatScope(new Map([['channel', 'text']]));
const DEFAULT_KEEP = 100;
/** How many of the latest messages the team is shown. */
const SHOWN = 50;
type AppCall = Pick<Call, 'environment' | 'holder' | 'member' | 'user'>;
type PublishCall = AppCall & Pick<Call<typeof operations.channels.publish>, 'body'>;

export function channelRoutes(parts: Parts): Route[] {
  const own = operations.channels;
  const store = new ChannelStore();
  const presence = new PresenceStore();
  const hubs = new Map<string, ChannelHub>();
  const compiled = new Map<string, ReturnType<typeof compileEvaluator>>();

  function holds(rule: string, channel: string, call: AppCall): boolean {
    let evaluate = compiled.get(rule);
    if (!evaluate) {
      evaluate = compileEvaluator(readFilter(rule, SCOPE));
      compiled.set(rule, evaluate);
    }
    const me = { id: call.user?.id ?? null, roles: [...(call.user?.roles ?? [])] };
    return evaluate({ channel }, { me, now: parts.now() }) === true;
  }
  /** The channel, if the caller may do this on it; server keys may whatever their scope says. @throws {Problem} not-found, access-refused */
  async function allowed(call: AppCall, name: string, action: keyof ChannelRules, made: 'made' | 'only looked at'): Promise<ChannelRow> {
    const environment = environmentOf(call);
    const channel = (await store.find(environment, name)) ?? firstOf(call, environment, name);
    if (call.holder?.key.kind !== 'server' && !holds(channel.rules[action], name, call)) throw refusalOf(call, channel, action);
    if (made === 'made') await store.ensure(environment, channel);
    return channel;
  }
  function refusalOf(call: AppCall, { name, rules }: ChannelRow, action: keyof ChannelRules): Problem {
    const full = `The rule of channel ${name} for ${action}ing refuses ${call.user ? 'this user' : 'callers who are not signed in'}: ${rules[action]}`;
    if (explainsRefusals(environmentOf(call))) return new Problem('access-refused', full);
    const told = untold(`The rule of channel ${name} for ${action}ing`, { userId: call.user?.id ?? null });
    return new Problem('access-refused', told, { teamDetail: full });
  }
  /** In an open environment a channel is there for everybody signed in before somebody has made it. */
  function firstOf(call: AppCall, environment: Environment, name: string): ChannelRow {
    if (environment.mode === 'closed')
      throw new Problem(
        'not-found',
        `There is no channel ${name} in ${environment.app}/${environment.name}, which is closed. Make it with PUT /manage/v1/…/channels/${name}.`,
      );
    return newRow(name, authorOf(call));
  }
  const newRow = (name: string, createdBy: string): ChannelRow => ({
    name,
    rules: { listen: SIGNED_IN, publish: SIGNED_IN },
    keep: DEFAULT_KEEP,
    createdBy,
    createdAt: new Date(parts.now()),
  });
  async function shown(environment: Environment, name: string): Promise<Channel | undefined> {
    return (await store.list(environment, new Date(parts.now()), name))[0];
  }
  function hubOf(environment: Environment, channel: string): ChannelHub {
    const name = `${environment.id} ${channel}`;
    let hub = hubs.get(name);
    if (!hub) {
      hub = new ChannelHub(parts, store, presence, environment, channel, () => hubs.delete(name));
      hubs.set(name, hub);
    }
    return hub;
  }
  async function listen(call: Call<typeof own.live>): Promise<'streaming'> {
    const environment = environmentOf(call);
    const { channel } = call.params;
    await allowed(call, channel, 'listen', 'made');
    const { last, device } = call.query;
    const resumed = Number(call.headers['last-event-id'] ?? Number.NaN);
    const before = await store.latest(environment, channel, Math.max(last, 1));
    // Resumed: after the last one had. Anew: with so many of the latest, or after the latest of all.
    const after = Number.isInteger(resumed) ? resumed : ((last > 0 ? before[0] && before[0].number - 1 : before.at(-1)?.number) ?? 0);
    const id = parts.newId();
    await presence.enter(environment, { channel, stream: id, userId: call.user?.id ?? null, deviceId: device ?? null }, parts.now());
    const stream = new EventStream(call, parts);
    const listener = { stream, id, after };
    const hub = hubOf(environment, channel);
    stream.onEnd(() => {
      hub.remove(listener);
      presence.leave(environment, channel, id, parts.now()).catch(() => undefined);
    });
    hub.add(listener);
    return 'streaming';
  }

  const noChannel = (environment: Environment, name: string) =>
    new Problem('not-found', `There is no channel ${name} in ${environment.app}/${environment.name}.`);
  async function publish(call: PublishCall, channel: ChannelRow) {
    const environment = environmentOf(call);
    const { data, notify } = call.body;
    // A notification that cannot be sent keeps the message from being published.
    const notifyOthers = notify ? await preparedFor(call, channel.name, notify) : null;
    const message = await store.add(environment, channel, data, authorOf(call), new Date(parts.now()));
    parts.changes.wake(environment.id);
    await notifyOthers?.();
    return { body: message };
  }

  return [
    bind(own.publish, async (call) => {
      const { body } = await publish(call, await allowed(call, call.params.channel, 'publish', 'made'));
      return { body: forApps(body) };
    }),
    bind(own.publishManaged, async (call) => {
      const channel = await store.find(environmentOf(call), call.params.channel);
      if (!channel) throw noChannel(environmentOf(call), call.params.channel);
      return publish(call, channel);
    }),
    bind(own.read, async (call) => {
      const environment = environmentOf(call);
      const { channel: name } = call.params;
      const channel = await shown(environment, name);
      if (!channel) throw noChannel(environment, name);
      const latest = await store.latest(environment, name, SHOWN);
      return { body: { ...channel, latest, presence: await presence.read(environment, name, parts.now()) } };
    }),
    bind(own.history, async (call) => {
      await allowed(call, call.params.channel, 'listen', 'only looked at');
      const latest = await store.latest(environmentOf(call), call.params.channel, call.query.limit);
      return { body: { items: latest.map(forApps) } };
    }),
    bind(own.live, listen),
    bind(own.presence, async (call) => {
      await allowed(call, call.params.channel, 'listen', 'only looked at');
      return { body: await presence.read(environmentOf(call), call.params.channel, parts.now()) };
    }),
    bind(own.list, async (call) => ({ body: { items: await store.list(environmentOf(call), new Date(parts.now())) } })),
    bind(own.put, async (call) => {
      const environment = environmentOf(call);
      for (const rule of Object.values(call.body.rules ?? {})) if (rule) readingFilter(() => readFilter(rule, SCOPE));
      const made = await store.ensure(environment, newRow(call.params.channel, authorOf(call)));
      const before = await store.find(environment, call.params.channel);
      if (!before) throw noChannel(environment, call.params.channel);
      const given = Object.fromEntries(Object.entries(call.body.rules ?? {}).filter(([, value]) => value !== undefined));
      await store.change(environment, { ...before, rules: { ...before.rules, ...given }, keep: call.body.keep ?? before.keep });
      const body = await shown(environment, call.params.channel);
      // Somebody may have removed it at the same moment.
      if (!body) throw noChannel(environment, call.params.channel);
      return { body, status: made ? 201 : 200 };
    }),
    bind(own.remove, async (call) => {
      if (!(await store.remove(environmentOf(call), call.params.channel))) throw noChannel(environmentOf(call), call.params.channel);
      return { body: undefined };
    }),
  ];

  /** Followers of the topic of the same name who do not listen get it as a notification; nobody to tell is no failure. */
  async function preparedFor(
    call: AppCall,
    name: string,
    notify: { title: string; body?: string | undefined; link?: string | undefined },
  ): Promise<() => Promise<void>> {
    const audience = { topics: { any: [name] }, notListening: name };
    const send = await prepareNotification(parts, environmentOf(call), { ...notify, audience }, authorOf(call)).catch((error: unknown) => {
      throw error instanceof Problem ? under('body.notify', error) : error;
    });
    return async () => {
      try {
        await send();
      } catch (error) {
        if (!(error instanceof Problem) || error.problem !== 'audience-empty') throw error;
      }
    };
  }
}

/** A problem of a part of the body, with where that part stands. */
function under(path: string, { problem, detail, extras }: Problem): Problem {
  const fields = extras.fields?.map((field) => ({ ...field, path: field.path.replace(/^body/, path) }));
  return new Problem(problem, detail, { ...extras, ...(fields ? { fields } : {}) });
}
