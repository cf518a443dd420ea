import { operations, type User } from '@orchard/contract';
import { type JsonObject, mergePatch, withheld } from '@orchard/core';
import { rolesOf, userFieldKinds, withHandRoles } from '@orchard/core/accounts';
import { orNone } from '../../platform/audit/audit.js';
import { guarded } from '../../platform/upkeep.js';
import { authorOf, bind, type Environment, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { ListRequest } from '../../platform/database/listing.js';
import type { Parts } from './parts.js';
import { demandPhone } from '../../messages/gateways/numbers.js';
import { accountRoutes, removeUser } from './account.js';
import { callerOf } from './entry.js';
import { demandData, fieldsIn, presentToSelf } from './fields.js';
import { roleRoutes } from './roleRoutes.js';
import { giveRuleRoles, originsOf } from './roles.js';
import type { Sessions } from './sessions.js';
import { signUp } from './signUp.js';
import { presentUser, type UserStore } from './store.js';

type UserChanges = {
  name?: string | null | undefined;
  data?: JsonObject | undefined;
  roles?: string[] | undefined;
  disabled?: boolean | undefined;
  phone?: string | null | undefined;
  terms?: string | undefined;
};

export function userRoutes(parts: Parts, store: UserStore, sessions: Sessions): Route[] {
  const own = operations.users;

  async function change(environment: Environment, id: string, changes: UserChanges, by: 'user' | 'servers' = 'servers') {
    const before = await store.named(environment, id);
    const { data, phone, roles, ...rest } = changes;
    const origins = withHandRoles(originsOf(before), roles ?? before.roles);
    const given = roles && { roles: rolesOf(origins), roleOrigins: origins };
    // A number that a member enters is not verified, even if it was before.
    const number = phone === undefined ? {} : { phone: phone && demandPhone(phone, 'body.phone').number, phoneVerifiedAt: null };
    const fitting = data && (await demandData(environment, data, { by, whole: false }));
    const merged = fitting ? { data: mergePatch(presentUser(before).data, fitting) as JsonObject } : {};
    await store.update(environment, id, { ...rest, ...given, ...merged, ...number, updatedAt: new Date(parts.now()) });
    if (changes.disabled) await sessions.end(environment, { userId: id }, 'account disabled');
    const after = await giveRuleRoles(store, environment, await store.named(environment, id), parts.now());
    // Rules may ask for either.
    if (changes.roles || data) parts.userTokens.forget({ userId: id });
    return { body: presentUser(after) };
  }

  /** With the last session, what providers handed out is taken back; nobody waits for them. */
  const releaseTokens = async (environment: Environment, userId: string) => {
    const open = await store.openSessions(environment, userId, new Date(parts.now()));
    if (open.length > 0) return;
    void guarded(parts, 'take tokens of providers back', { environment: environment.id }, () =>
      parts.ports.providerTokens.release(environment, userId),
    );
  };

  const listUsers = async (environment: Environment, query: ListRequest) => ({
    body: await store.list(environment, query, parts, userFieldKinds(await fieldsIn(environment))),
  });

  /** Personal data of users does not outlive them in the audit. */
  const kept = (user: User) => withheld(user as unknown as JsonObject, ['email', 'name', 'phone', 'data'], parts.audit.fingerprint);
  const audited = {
    read: async (call: Naming<{ user: string }>) => {
      const row = await orNone(store.named(environmentOf(call), call.params.user));
      return row && kept(presentUser(row));
    },
  };
  return [
    bind(own.readMe, async (call) => ({
      body: await presentToSelf(environmentOf(call), await store.named(environmentOf(call), call.user?.id ?? '')),
    })),
    bind(own.patchMe, async (call) => {
      const environment = environmentOf(call);
      const id = call.user?.id ?? '';
      await change(environment, id, call.body, 'user');
      return { body: await presentToSelf(environment, await store.named(environment, id)) };
    }),
    bind(own.signUp, async (call) => {
      const environment = environmentOf(call);
      const user = await signUp(parts, sessions, environment, callerOf(call), call.body);
      return { body: await sessions.begin(environment, callerOf(call), user) };
    }),
    bind(own.startSession, async (call) => {
      const { body } = call;
      if ('refreshToken' in body) return { body: await sessions.renew(environmentOf(call), callerOf(call), body.refreshToken) };
      return { body: await sessions.signIn(environmentOf(call), callerOf(call), body.email, body.password) };
    }),
    bind(own.endSession, async (call) => {
      await sessions.end(environmentOf(call), { id: call.user?.sessionId ?? '' }, 'signed out');
      // A device belongs to a user from sign-in to sign-out.
      const device = call.headers['orchard-device'];
      if (typeof device === 'string') await parts.ports.signedOut(environmentOf(call), device, call.user?.id ?? '');
      await releaseTokens(environmentOf(call), call.user?.id ?? '');
      return { body: undefined };
    }),
    bind(own.list, (call) => listUsers(environmentOf(call), call.query)),
    bind(own.read, async (call) => ({ body: presentUser(await store.named(environmentOf(call), call.params.user)) })),
    bind(
      own.create,
      async (call) => {
        const phone = call.body.phone && demandPhone(call.body.phone, 'body.phone').number;
        return { body: presentUser(await sessions.makeUser(environmentOf(call), { ...call.body, phone })) };
      },
      { after: kept },
    ),
    bind(own.patch, (call) => change(environmentOf(call), call.params.user, call.body), audited),
    bind(own.patchByServer, (call) => change(environmentOf(call), call.params.user, call.body)),
    bind(own.listByServer, (call) => listUsers(environmentOf(call), call.query)),
    bind(own.readByServer, async (call) => ({ body: presentUser(await store.named(environmentOf(call), call.params.user)) })),
    bind(
      own.remove,
      async (call) => {
        await removeUser(parts, store, environmentOf(call), call.params.user, { by: authorOf(call), locale: 'en' });
        return { body: undefined };
      },
      audited,
    ),
    ...accountRoutes(parts, store, sessions),
    ...roleRoutes(parts, store),
  ];
}
