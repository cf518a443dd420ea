import { operations } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { presentFactor } from '../../platform/access/factors/factors.js';
import type { FactorRow } from '../../platform/access/factors/factorStore.js';
import { bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { callerOf } from '../users/entry.js';
import type { Parts } from './parts.js';
import type { UserFactors } from './userFactors.js';

export function factorRoutes(parts: Parts, factors: UserFactors): Route[] {
  const own = operations.userFactors;
  const { userSessions, userStore } = parts;
  const idOf = (call: Pick<Call, 'user'>) => call.user?.id ?? '';
  const listed = async (environment: Environment, userId: string) => {
    const { store, passkeys } = await factors.of(environment);
    const [rows, recoveryCodes] = await Promise.all([store.confirmed(userId), store.recoveryCodesLeft(userId)]);
    return { items: rows.map(presentFactor), recoveryCodes, passkeys: passkeys.missing };
  };
  /** With the first factor, sessions that began without it end. */
  const finish = async (call: Pick<Call, 'environment' | 'user'>, row: FactorRow) => {
    const environment = environmentOf(call);
    const recoveryCodes = await (await factors.of(environment)).finish(row);
    if (recoveryCodes) await userSessions.endOthers(environment, idOf(call), call.user?.sessionId ?? null, 'second factor added');
    return { ...presentFactor(row), ...(recoveryCodes ? { recoveryCodes } : {}) };
  };
  return [
    bind(own.list, async (call) => ({ body: await listed(environmentOf(call), idOf(call)) })),
    bind(own.addAuthenticator, async (call) => {
      const { id, email, name } = await factors.demandProof(call, call.body);
      const { app } = environmentOf(call);
      const label = { label: email ?? name ?? id, issuer: app };
      return { body: await (await factors.of(environmentOf(call))).addAuthenticator(id, call.body.name, label) };
    }),
    bind(own.confirmAuthenticator, async (call) => {
      const { code } = call.body;
      const ofAll = await factors.of(environmentOf(call));
      return { body: await finish(call, await ofAll.readFirstCode(idOf(call), call.params.factor, code, call.request.ip ?? '')) };
    }),
    bind(own.beginPasskey, async (call) => {
      const { id, email, name } = await factors.demandProof(call, call.body);
      const { passkeys } = await factors.of(environmentOf(call));
      return { body: await passkeys.begin({ id, email: email ?? name ?? id, name: name ?? email ?? id }) };
    }),
    bind(own.addPasskey, async (call) => {
      const ofAll = await factors.of(environmentOf(call));
      return { body: await finish(call, await ofAll.addPasskey(idOf(call), call.body.name, call.body.passkey as JsonObject)) };
    }),
    bind(own.remove, async (call) => {
      await factors.demandProof(call, call.body);
      await (await factors.of(environmentOf(call))).remove(idOf(call), call.params.factor);
      return { body: undefined };
    }),
    bind(own.renewCodes, async (call) => {
      const ofAll = await factors.of(environmentOf(call));
      await ofAll.demandAny(idOf(call));
      await factors.demandProof(call, call.body);
      return { body: { recoveryCodes: await ofAll.renewRecoveryCodes(idOf(call)) } };
    }),
    bind(own.challenge, async (call) => ({ body: await (await factors.of(environmentOf(call))).passkeys.challenge() })),
    bind(own.signInByPasskey, async (call) => {
      const environment = environmentOf(call);
      const user = await factors.byPasskey(environment, call.body.passkey as JsonObject);
      return { body: await userSessions.begin(environment, callerOf(call), user, 'proved') };
    }),
    bind(own.signInBySecondFactor, async (call) => {
      const environment = environmentOf(call);
      const caller = callerOf(call);
      const user = await factors.finish(environment, caller.client, call.body.ticket, call.body.code, caller.address);
      return { body: await userSessions.begin(environment, caller, user, 'proved') };
    }),
    bind(own.ofUser, async (call) => {
      const { id } = await userStore.named(environmentOf(call), call.params.user);
      const { items, recoveryCodes } = await listed(environmentOf(call), id);
      return { body: { items, recoveryCodes } };
    }),
    bind(
      own.reset,
      async (call) => {
        const environment = environmentOf(call);
        const { id } = await userStore.named(environment, call.params.user);
        await (await factors.of(environment)).store.removeAll(id);
        await userSessions.end(environment, { userId: id }, 'second factors removed');
        return { body: undefined };
      },
      { subject: (call) => call.params.user },
    ),
  ];
}
