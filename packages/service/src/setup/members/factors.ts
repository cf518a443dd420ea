/** Second factors: what a member adds and removes, and how one proves who one is with them. */
import { type AddedFactor, Problem, type SecondFactor } from '@orchard/contract';
import { base32, type JsonObject } from '@orchard/core';
import { methodsOf, methodWords } from '../../platform/access/confirmation.js';
import { originOf } from '../../platform/audit/audit.js';
import { Guesses } from '../../platform/access/guesses.js';
import { hashKey, seal, unseal } from '../../platform/access/secrets.js';
import type { Call, SignedInMember } from '../../platform/call.js';
import { type FactorRow, FactorStore } from './factorStore.js';
import type { Parts } from './parts.js';
import { readNewPasskey, usePasskey } from './passkeys.js';
import { newTimeSecret, readTimeCode } from './timeCodes.js';

/** A call of a signed-in member. */
export type MemberCall = Pick<Call, 'request' | 'id' | 'operation' | 'environment' | 'user' | 'holder'> & { member: SignedInMember };

const RECOVERY_CODES = 10;
/** 60 bits, in three groups of four characters. */
const CODE_BYTES = 8;

const contextOf = (factorId: string) => `second factor ${factorId}`;
const plain = (code: string): string => code.replace(/[\s-]/g, '').toLowerCase();

export const presentFactor = ({ id, kind, name, createdAt, lastUsedAt }: FactorRow): SecondFactor => ({
  id,
  kind: kind as SecondFactor['kind'],
  name,
  createdAt: createdAt.toISOString(),
  lastUsedAt: lastUsedAt?.toISOString() ?? null,
});

/** Begins to add an authenticator app. */
export async function addAuthenticator(
  parts: Parts,
  member: SignedInMember,
  name: string,
): Promise<{ id: string; secret: string; uri: string }> {
  const id = parts.newId();
  // RFC 4226 section 4, R6: 160 bits are recommended.
  const { secret, uri } = newTimeSecret(parts.random(20), `${member.email} at ${new URL(parts.address()).host}`, 'Vivid Orchard');
  await new FactorStore(parts.database).add({
    id,
    memberId: member.id,
    kind: 'authenticator',
    name,
    sealed: seal(parts.secretKey, contextOf(id), secret),
    createdAt: new Date(parts.now()),
  });
  return { id, secret, uri };
}

/** Finishes adding an authenticator app, with its first code. @throws {Problem} not-found, second-factor-refused, rate-exceeded */
export async function confirmAuthenticator(parts: Parts, call: MemberCall, id: string, code: string): Promise<AddedFactor> {
  const row = await new FactorStore(parts.database).find(call.member.id, id);
  if (!row?.sealed) throw new Problem('not-found', `You have no authenticator app ${id}. Begin to add it again.`);
  await guarding(parts, call, call.member.id, () => useTimeCode(parts, [row], plain(code)));
  return finish(parts, call, row);
}

/** Adds a passkey that was created. @throws {Problem} second-factor-refused */
export async function addPasskey(parts: Parts, call: MemberCall, name: string, passkey: JsonObject): Promise<AddedFactor> {
  const { id: memberId } = call.member;
  const read = await readNewPasskey(parts, memberId, passkey);
  const row = { id: parts.newId(), memberId, kind: 'passkey', name, createdAt: new Date(parts.now()), ...read };
  await new FactorStore(parts.database).add(row);
  return finish(parts, call, row as FactorRow);
}

/** A new factor counts from now on; with the first one come recovery codes, and sessions without it end. */
function finish(parts: Parts, call: MemberCall, row: FactorRow): Promise<AddedFactor> {
  const { member, operation } = call;
  const store = new FactorStore(parts.database);
  const watched = {
    kind: 'second factor',
    action: operation.id,
    subject: `${member.id}/${row.id}`,
    after: () => presentFactor(row),
  } as const;
  return parts.audit.watch(originOf(call), watched, async () => {
    const isFirst = (await store.confirmed(member.id)).length === 0;
    const now = new Date(parts.now());
    await store.confirm(row.id, now);
    await store.confirmSession(member.id, member.tokenHash, now, isFirst);
    return {
      ...presentFactor({ ...row, lastUsedAt: null }),
      ...(isFirst ? { recoveryCodes: await renewRecoveryCodes(parts, member.id) } : {}),
    };
  });
}

/** @throws {Problem} not-found */
export async function removeFactor(parts: Parts, memberId: string, id: string): Promise<void> {
  const store = new FactorStore(parts.database);
  if (!(await store.find(memberId, id))) throw new Problem('not-found', `You have no second factor ${id}.`);
  await store.remove(memberId, id);
  if ((await store.confirmed(memberId)).length === 0) await store.setRecoveryCodes(memberId, []);
}

/** Ten new recovery codes in place of the earlier ones. */
export async function renewRecoveryCodes(parts: Parts, memberId: string): Promise<string[]> {
  const codes = Array.from({ length: RECOVERY_CODES }, () => base32(parts.random(CODE_BYTES)).slice(0, 12));
  await new FactorStore(parts.database).setRecoveryCodes(memberId, codes.map(hashKey));
  return codes.map((code) => `${code.slice(0, 4)}-${code.slice(4, 8)}-${code.slice(8)}`);
}

/** @throws {Problem} wrong-state, for a member without a second factor */
export async function demandFactor(parts: Parts, memberId: string): Promise<void> {
  if ((await new FactorStore(parts.database).confirmed(memberId)).length === 0)
    throw new Problem('wrong-state', 'You have no second factor yet. Add one first; recovery codes come with it.');
}

/**
 * Checks the second factor of a member who has given the right password.
 * @throws {Problem} second-factor-needed, second-factor-refused, rate-exceeded
 */
export async function proveFactor(parts: Parts, call: Pick<Call, 'request'>, memberId: string, code: string | undefined): Promise<void> {
  const methods = await methodsOf(parts, memberId);
  if (methods.includes('password')) return;
  if (code === undefined) throw new Problem('second-factor-needed', `A second factor is needed: ${methodWords(methods)}.`, { methods });
  await guarding(parts, call, memberId, () => useCode(parts, memberId, plain(code)));
}

/** The member a passkey belongs to. @throws {Problem} second-factor-refused */
export const memberOfPasskey = async (parts: Parts, passkey: JsonObject): Promise<string> => (await usePasskey(parts, passkey)).memberId;

/** Slows down guessing: codes are short. */
async function guarding(parts: Parts, call: Pick<Call, 'request'>, memberId: string, work: () => Promise<void>): Promise<void> {
  const guesses = new Guesses(parts.database, parts.now, 'guesses');
  const account = `second factor of ${memberId}`;
  const address = call.request.ip ?? '';
  await guesses.demand(account, address);
  try {
    await work();
  } catch (error) {
    await guesses.noteFailure(account, address);
    throw error;
  }
  await guesses.noteSuccess(account, address);
}

/** A code of an authenticator app is six digits; anything else is a recovery code. */
async function useCode(parts: Parts, memberId: string, code: string): Promise<void> {
  const store = new FactorStore(parts.database);
  if (/^\d{6}$/.test(code)) {
    const rows = (await store.confirmed(memberId)).filter(({ sealed }) => sealed !== null);
    return useTimeCode(parts, rows, code);
  }
  if (!(await store.useRecoveryCode(memberId, hashKey(code))))
    throw new Problem(
      'second-factor-refused',
      'This is neither a code of six digits nor an unused recovery code. Each recovery code works once.',
    );
}

/** @throws {Problem} second-factor-refused, that says why */
async function useTimeCode(parts: Parts, rows: readonly FactorRow[], code: string): Promise<void> {
  const store = new FactorStore(parts.database);
  const now = parts.now();
  let why = 'The code is wrong. Enter the one your authenticator app shows now.';
  for (const row of rows) {
    const secret = unseal(parts.secretKey, contextOf(row.id), row.sealed as string).toString();
    const read = readTimeCode(secret, code, row.drift, now);
    if (read.ok) {
      // RFC 6238 section 5.2: a code that was accepted must not be accepted again.
      if (await store.useStep(row.id, read.step, read.drift, new Date(now))) return;
      why = 'This code was used already. Wait for the next one.';
    } else if (read.aheadS !== null) why = clockWords(read.aheadS);
  }
  throw new Problem('second-factor-refused', why);
}

function clockWords(aheadS: number): string {
  const off = Math.abs(aheadS);
  const words = off < 90 ? `${off} seconds` : `${Math.round(off / 60)} minutes`;
  return `The code is one of another time: the clock of your device is about ${words} ${aheadS > 0 ? 'ahead' : 'behind'}. Set it by the network, and enter the next code.`;
}
