import { operations, Problem } from '@orchard/contract';
import { type JsonObject, mergePatch } from '@orchard/core';
import { bind, type Call, type Environment, environmentOf, type Route } from '../http/call.js';
import type { Parts } from '../parts.js';
import { OneTimeCodes } from '../sms/codes.js';
import { demandPhone } from '../sms/numbers.js';
import { follow } from '../topics/following.js';
import { TopicStore } from '../topics/store.js';
import { accountRoutes, removeUser } from './account.js';
import { Sessions } from './sessions.js';
import { presentUser, type UserRow, UserStore } from './store.js';

type UserChanges = {
  name?: string | null | undefined;
  data?: JsonObject | undefined;
  roles?: string[] | undefined;
  disabled?: boolean | undefined;
  phone?: string | null | undefined;
};

export function userRoutes(parts: Parts): Route[] {
  const store = new UserStore(parts.database);
  const sessions = new Sessions(parts, store);
  const codes = new OneTimeCodes(parts);
  const topics = new TopicStore(parts.database);
  const own = operations.users;
  const clientOf = (call: Pick<Call, 'holder'>) => call.holder?.client.name ?? '';

  async function userNamed(environment: Environment, id: string): Promise<UserRow> {
    const row = await store.find(environment, id);
    if (!row) throw new Problem('not-found', `There is no user ${id} in ${environment.app}/${environment.name}.`);
    return row;
  }
  async function change(environment: Environment, id: string, changes: UserChanges) {
    const before = await userNamed(environment, id);
    const { data, phone, ...rest } = changes;
    // A number that a member types is not verified, whatever was there before.
    const number = phone === undefined ? {} : { phone: phone && demandPhone(phone, 'body.phone').number, phoneVerifiedAt: null };
    const merged = data ? { data: mergePatch(presentUser(before).data, data) as JsonObject } : {};
    await store.update(environment, id, { ...rest, ...merged, ...number, updatedAt: new Date(parts.now()) });
    if (changes.disabled) await sessions.end(environment, { userId: id }, 'account disabled');
    if (changes.roles) parts.userTokens.forget({ userId: id });
    return { body: presentUser(await userNamed(environment, id)) };
  }

  return [
    bind(own.readMe, async (call) => ({ body: presentUser(await userNamed(environmentOf(call), call.user?.id ?? '')) })),
    bind(own.patchMe, (call) => change(environmentOf(call), call.user?.id ?? '', call.body)),
    bind(own.signUp, async (call) => {
      const user = await sessions.makeUser(environmentOf(call), call.body);
      return { body: await sessions.begin(environmentOf(call), clientOf(call), user) };
    }),
    bind(own.startSession, async (call) => {
      const { body } = call;
      if ('refreshToken' in body) return { body: await sessions.renew(environmentOf(call), clientOf(call), body.refreshToken) };
      return { body: await sessions.signIn(environmentOf(call), clientOf(call), body.email, body.password, call.request.ip ?? '') };
    }),
    bind(own.endSession, async (call) => {
      await sessions.end(environmentOf(call), { id: call.user?.sessionId ?? '' }, 'signed out');
      // A device belongs to a user from sign-in to sign-out.
      const device = call.headers['orchard-device'];
      if (typeof device === 'string') await store.releaseDevice(environmentOf(call), device, call.user?.id ?? '', new Date(parts.now()));
      return { body: undefined };
    }),
    bind(own.list, async (call) => ({ body: await store.list(environmentOf(call), call.query, parts) })),
    bind(own.read, async (call) => ({ body: presentUser(await userNamed(environmentOf(call), call.params.user)) })),
    bind(own.create, async (call) => {
      const phone = call.body.phone && demandPhone(call.body.phone, 'body.phone').number;
      return { body: presentUser(await sessions.makeUser(environmentOf(call), { ...call.body, phone })) };
    }),
    bind(own.askCode, async (call) => {
      const { number } = demandPhone(call.body.number, 'body.number');
      return { body: await codes.send(environmentOf(call), number) };
    }),
    bind(own.answerCode, async (call) => {
      const { number } = demandPhone(call.body.number, 'body.number');
      await codes.answer(environmentOf(call), number, call.body.code);
      const now = new Date(parts.now());
      await store.update(environmentOf(call), call.user?.id ?? '', { phone: number, phoneVerifiedAt: now, updatedAt: now });
      return { body: presentUser(await userNamed(environmentOf(call), call.user?.id ?? '')) };
    }),
    bind(own.topics, async (call) => {
      const followed = await topics.followedBy(environmentOf(call), null, call.user?.id ?? '');
      return { body: { items: followed.map(({ topic, at }) => ({ topic, at })) } };
    }),
    bind(own.follow, async (call) => {
      await follow(parts, call, call.params.topic, { kind: 'user', id: call.user?.id ?? '' });
      return { body: undefined };
    }),
    bind(own.unfollow, async (call) => {
      await topics.unfollow(environmentOf(call), call.params.topic, [{ kind: 'user', id: call.user?.id ?? '' }]);
      return { body: undefined };
    }),
    bind(own.patch, (call) => change(environmentOf(call), call.params.user, call.body)),
    bind(own.patchByServer, (call) => change(environmentOf(call), call.params.user, call.body)),
    bind(own.listByServer, async (call) => ({ body: await store.list(environmentOf(call), call.query, parts) })),
    bind(own.readByServer, async (call) => ({ body: presentUser(await userNamed(environmentOf(call), call.params.user)) })),
    bind(own.remove, async (call) => {
      await removeUser(parts, store, call, call.params.user);
      return { body: undefined };
    }),
    ...accountRoutes(parts, store, sessions),
  ];
}
