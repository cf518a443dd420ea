import { operations, Problem, type Topic } from '@orchard/contract';
import { deviceNamed, findOwnDevice } from '../devices/ownership.js';
import { DeviceStore } from '../devices/store.js';
import { authorOf, bind, type Call, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { follow } from './following.js';
import type { Parts } from './parts.js';
import { UserStore } from '../../people/users/store.js';
import { type Follower, TopicStore } from './store.js';

export function topicRoutes(parts: Parts): Route[] {
  const own = operations.topics;
  const store = new TopicStore();
  const devices = new DeviceStore(parts);
  const users = new UserStore();

  async function named(environment: Environment, name: string): Promise<Topic> {
    const topic = await store.find(environment, name);
    if (!topic) throw new Problem('not-found', `There is no topic ${name} in ${environment.app}/${environment.name}.`);
    return topic;
  }
  /** Every follower named must exist: a missing one would silently never be reached. */
  async function followers(
    environment: Environment,
    body: { devices?: string[] | undefined; users?: string[] | undefined },
  ): Promise<Follower[]> {
    const wanted = { device: body.devices ?? [], user: body.users ?? [] };
    const known = { device: await devices.known(environment, wanted.device), user: await users.known(environment, wanted.user) };
    for (const kind of ['device', 'user'] as const) {
      const missing = wanted[kind].find((id) => !known[kind].has(id));
      if (missing)
        throw new Problem('not-found', `There is no ${kind} ${missing} in ${environment.app}/${environment.name}. Nobody was added.`);
    }
    return [...wanted.device.map((id) => ({ kind: 'device' as const, id })), ...wanted.user.map((id) => ({ kind: 'user' as const, id }))];
  }

  const audited = { read: (call: Naming<{ topic: string }>) => store.find(environmentOf(call), call.params.topic) };
  return [
    bind(own.list, async (call) => ({ body: await store.list(environmentOf(call), call.query, parts) })),
    bind(own.read, async (call) => ({ body: await named(environmentOf(call), call.params.topic) })),
    bind(
      own.put,
      async (call) => {
        const environment = environmentOf(call);
        const made = await store.ensure(environment, call.params.topic, authorOf(call), new Date(parts.now()));
        await store.change(environment, call.params.topic, call.body);
        return { body: await named(environment, call.params.topic), status: made ? 201 : 200 };
      },
      audited,
    ),
    bind(
      own.remove,
      async (call) => {
        if (!(await store.remove(environmentOf(call), call.params.topic))) await named(environmentOf(call), call.params.topic);
        return { body: undefined };
      },
      audited,
    ),
    bind(
      own.addFollowers,
      async (call) => {
        const environment = environmentOf(call);
        await named(environment, call.params.topic);
        await store.follow(environment, call.params.topic, await followers(environment, call.body), new Date(parts.now()));
        return { body: await named(environment, call.params.topic) };
      },
      audited,
    ),
    bind(
      own.removeFollowers,
      async (call) => {
        const environment = environmentOf(call);
        await named(environment, call.params.topic);
        await store.unfollow(environment, call.params.topic, await followers(environment, call.body));
        return { body: await named(environment, call.params.topic) };
      },
      audited,
    ),
    ...userFollowing(parts, store),
    ...deviceFollowing(parts, store, devices),
  ];
}

/** What users follow themselves. */
function userFollowing(parts: Parts, store: TopicStore): Route[] {
  const own = operations.users;
  const me = (call: Pick<Call, 'user'>): Follower => ({ kind: 'user', id: call.user?.id ?? '' });
  return [
    bind(own.topics, async (call) => {
      const followed = await store.followedBy(environmentOf(call), null, me(call).id);
      return { body: { items: followed.map(({ topic, at }) => ({ topic, at })) } };
    }),
    bind(own.follow, async (call) => {
      await follow(parts, call, call.params.topic, me(call));
      return { body: undefined };
    }),
    bind(own.unfollow, async (call) => {
      await store.unfollow(environmentOf(call), call.params.topic, [me(call)]);
      return { body: undefined };
    }),
  ];
}

/** What devices follow, with what their users do. */
function deviceFollowing(parts: Parts, store: TopicStore, devices: DeviceStore): Route[] {
  const own = operations.devices;
  return [
    bind(own.topics, async (call) => {
      const { id, userId } = await findOwnDevice(devices, call);
      return { body: { items: await store.followedBy(environmentOf(call), id, userId ?? call.user?.id ?? null) } };
    }),
    bind(own.follow, async (call) => {
      const { id } = await findOwnDevice(devices, call);
      await follow(parts, call, call.params.topic, { kind: 'device', id });
      return { body: undefined };
    }),
    bind(own.unfollow, async (call) => {
      const { id } = await findOwnDevice(devices, call);
      await store.unfollow(environmentOf(call), call.params.topic, [{ kind: 'device', id }]);
      return { body: undefined };
    }),
    bind(own.topicsManaged, async (call) => {
      const { id, userId } = await deviceNamed(devices, environmentOf(call), call.params.device);
      return { body: { items: await store.followedBy(environmentOf(call), id, userId) } };
    }),
  ];
}
