/** Second factors of members: authenticator apps and passkeys. */
import { type AddedFactor, Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { methodsOf, methodWords } from '../../platform/access/confirmation.js';
import { Factors, presentFactor } from '../../platform/access/factors/factors.js';
import type { FactorRow } from '../../platform/access/factors/factorStore.js';
import { Passkeys, siteAt } from '../../platform/access/factors/passkeys.js';
import { Guesses } from '../../platform/access/guesses.js';
import { originOf } from '../../platform/audit/audit.js';
import type { Call, SignedInMember } from '../../platform/call.js';
import { MemberFactorStore } from './factorStore.js';
import type { Parts } from './parts.js';

/** A call of a signed-in member. */
export type MemberCall = Pick<Call, 'request' | 'id' | 'operation' | 'environment' | 'user' | 'holder'> & { member: SignedInMember };

const NAME = 'Vivid Orchard';

/** The pieces for the members of this installation. */
export function memberFactors({ database, address, secretKey, newId, random, now }: Parts): Factors {
  const store = new MemberFactorStore(database);
  const passkeys = new Passkeys({ store, site: siteAt(address(), NAME), now });
  return new Factors({ store, passkeys, key: secretKey, guesses: new Guesses(database, now, 'guesses'), newId, random, now });
}

/** Begins to add an authenticator app. */
export function addAuthenticator(parts: Parts, member: SignedInMember, name: string) {
  const label = `${member.email} at ${new URL(parts.address()).host}`;
  return memberFactors(parts).addAuthenticator(member.id, name, { label, issuer: NAME });
}

/** Finishes adding an authenticator app, with its first code. @throws {Problem} not-found, second-factor-refused, rate-exceeded */
export async function confirmAuthenticator(parts: Parts, call: MemberCall, id: string, code: string): Promise<AddedFactor> {
  return finish(parts, call, await memberFactors(parts).readFirstCode(call.member.id, id, code, call.request.ip ?? ''));
}

/** Adds a passkey that was created. @throws {Problem} second-factor-refused */
export async function addPasskey(parts: Parts, call: MemberCall, name: string, passkey: JsonObject): Promise<AddedFactor> {
  return finish(parts, call, await memberFactors(parts).addPasskey(call.member.id, name, passkey));
}

/** With the first factor, sessions without it end. */
function finish(parts: Parts, call: MemberCall, row: FactorRow): Promise<AddedFactor> {
  const { member, operation } = call;
  const watched = {
    kind: 'second factor',
    action: operation.id,
    subject: `${member.id}/${row.id}`,
    after: () => presentFactor(row),
  } as const;
  return parts.audit.watch(originOf(call), watched, async () => {
    const recoveryCodes = await memberFactors(parts).finish(row);
    const sessions = new MemberFactorStore(parts.database);
    await sessions.confirmSession(member.id, member.tokenHash, new Date(parts.now()), recoveryCodes !== null);
    return { ...presentFactor({ ...row, lastUsedAt: null }), ...(recoveryCodes ? { recoveryCodes } : {}) };
  });
}

/**
 * Checks the second factor of a member who has given the right password.
 * @throws {Problem} second-factor-needed, second-factor-refused, rate-exceeded
 */
export async function proveFactor(parts: Parts, call: Pick<Call, 'request'>, memberId: string, code: string | undefined): Promise<void> {
  const methods = await methodsOf(parts, memberId);
  if (methods.includes('password')) return;
  if (code === undefined) throw new Problem('second-factor-needed', `A second factor is needed: ${methodWords(methods)}.`, { methods });
  await memberFactors(parts).useCode(memberId, code, call.request.ip ?? '');
}

/** The member a passkey belongs to. @throws {Problem} second-factor-refused */
export const memberOfPasskey = async (parts: Parts, passkey: JsonObject): Promise<string> =>
  (await memberFactors(parts).passkeys.use(passkey)).ownerId;
