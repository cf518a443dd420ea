import { operations, Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { CONFIRMED_MS, methodsOf, methodWords } from '../../platform/access/confirmation.js';
import { WRONG_PASSWORD } from '../../platform/access/passwords.js';
import { bind, type Call, type Route, type SignedInMember } from '../../platform/call.js';
import { presentFactor } from '../../platform/access/factors/factors.js';
import { MemberFactorStore } from './factorStore.js';
import {
  addAuthenticator,
  addPasskey,
  confirmAuthenticator,
  type MemberCall,
  memberFactors,
  memberOfPasskey,
  proveFactor,
} from './factors.js';
import type { Parts } from './parts.js';
import { confirmMember } from './signIn.js';

export function factorRoutes(parts: Parts): Route[] {
  const own = operations.secondFactors;
  const store = new MemberFactorStore(parts.database);
  const memberOf = (call: Pick<Call, 'member'>) => call.member as SignedInMember;
  const subject = (call: Pick<Call, 'member'>) => memberOf(call).id;
  return [
    bind(own.list, async (call) => ({ body: await listFactors(parts, store, memberOf(call)) })),
    bind(own.addAuthenticator, async (call) => ({ body: await addAuthenticator(parts, memberOf(call), call.body.name) }), {
      subject,
      after: ({ id }) => ({ id, kind: 'authenticator', confirmed: false }),
    }),
    bind(
      own.confirmAuthenticator,
      async (call) => ({ body: await confirmAuthenticator(parts, call as Call & MemberCall, call.params.factor, call.body.code) }),
      { as: 'own' },
    ),
    bind(own.beginPasskey, async (call) => ({ body: await memberFactors(parts).passkeys.begin(memberOf(call)) })),
    bind(
      own.addPasskey,
      async (call) => ({ body: await addPasskey(parts, call as Call & MemberCall, call.body.name, call.body.passkey as JsonObject) }),
      { as: 'own' },
    ),
    bind(
      own.remove,
      async (call) => {
        await memberFactors(parts).remove(memberOf(call).id, call.params.factor);
        return { body: undefined };
      },
      {
        subject: (call) => `${memberOf(call).id}/${call.params.factor}`,
        read: async (call) => {
          const row = await store.find(memberOf(call).id, call.params.factor);
          return row ? presentFactor(row) : null;
        },
      },
    ),
    bind(
      own.renewCodes,
      async (call) => {
        await memberFactors(parts).demandAny(memberOf(call).id);
        return { body: { recoveryCodes: await memberFactors(parts).renewRecoveryCodes(memberOf(call).id) } };
      },
      { subject, after: ({ recoveryCodes }) => ({ recoveryCodes: recoveryCodes.length }) },
    ),
    bind(own.challenge, async () => ({ body: await memberFactors(parts).passkeys.challenge() })),
    bind(own.confirm, async (call) => {
      await prove(parts, call as Call & MemberCall, call.body as Proof);
      await store.confirmSession(memberOf(call).id, memberOf(call).tokenHash, new Date(parts.now()), false);
      return { body: { until: new Date(parts.now() + CONFIRMED_MS).toISOString() } };
    }),
  ];
}

async function listFactors(parts: Parts, store: MemberFactorStore, member: SignedInMember) {
  const [rows, recoveryCodes, roles, apps] = await Promise.all([
    store.confirmed(member.id),
    store.recoveryCodesLeft(member.id),
    parts.members.givenRoles(member),
    store.demandingApps(),
  ]);
  const demandedBy = apps.filter(({ environments }) => member.owner || environments.some((id) => isHigh(roles.get(id))));
  return {
    items: rows.map(presentFactor),
    recoveryCodes,
    demandedBy: demandedBy.map(({ name }) => name),
    passkeys: memberFactors(parts).passkeys.missing,
  };
}

const isHigh = (role: string | undefined): boolean => role === 'maintainer' || role === 'owner';

type Proof = { password?: string | undefined; code?: string | undefined; passkey?: JsonObject | undefined };

/** @throws {Problem} second-factor-needed, second-factor-refused, sign-in-refused, rate-exceeded */
async function prove(parts: Parts, call: MemberCall, { password, code, passkey }: Proof): Promise<void> {
  const { id, email } = call.member;
  if (passkey) {
    if ((await memberOfPasskey(parts, passkey)) !== id)
      throw new Problem('second-factor-refused', 'This passkey belongs to another member. Use your own.');
    return;
  }
  const methods = await methodsOf(parts, id);
  if (!methods.includes('password')) return proveFactor(parts, call, id, code);
  if (password === undefined) throw new Problem('second-factor-needed', `Confirm with ${methodWords(methods)}.`, { methods });
  await confirmMember(parts, call, { email, password }, WRONG_PASSWORD);
}
