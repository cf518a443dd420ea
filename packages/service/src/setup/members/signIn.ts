/** Signs members in: checks their credentials, and starts a session. */
import { type Member, Problem } from '@orchard/contract';
import { formatKey } from '@orchard/core';
import type { Response } from 'express';
import type { Origin } from '../../platform/audit/audit.js';
import { Guesses } from '../../platform/access/guesses.js';
import { demandGoodPassword } from '../../platform/access/passwords.js';
import { hashKey, hashPassword, verifyPassword } from '../../platform/access/secrets.js';
import { csrfValue, SESSION_COOKIE } from '../../platform/access/steps.js';
import type { Call } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { keepSetupToken, takeSetupToken } from './setup.js';
import { type MemberRow, MemberStore } from './store.js';

/** A call whose member is not known beforehand. */
export type AnyCall = Pick<Call, 'request' | 'response' | 'id' | 'operation'>;

/** Enough of a hash to name a session, and of no use to anyone who reads it. */
export const SESSION_ID_LENGTH = 16;
export const sessionId = (tokenHash: string): string => tokenHash.slice(0, SESSION_ID_LENGTH);

/** The origin of a change that a member makes without being signed in: by a one-time address, or by signing in. */
export const originOfMember = ({ request, id }: Pick<Call, 'request' | 'id'>, memberId: string): Origin => ({
  actor: { kind: 'member', id: memberId },
  address: request.ip ?? null,
  request: id,
  environment: null,
});

const SESSION_MS = { cookie: 7 * 86_400_000, token: 90 * 86_400_000 };
export const presentMember = ({ id, email, name, owner }: Member): Member => ({ id, email, name, owner: Boolean(owner) });

/** A password as it is stored. @throws {Problem} invalid-input for one that is guessed first */
export async function storedPassword(parts: Parts, password: string, path: string, names: (string | null)[]) {
  demandGoodPassword(
    password,
    path,
    names.filter((name) => name !== null),
  );
  return { id: parts.newId(), verifier: await hashPassword(password), createdAt: new Date(parts.now()) };
}

/** Adds a member; without a password, one who has not joined yet. @throws {Problem} already-exists, invalid-input */
export async function createMember(
  parts: Parts,
  {
    email,
    name,
    password,
    owner,
    id = parts.newId(),
  }: { email: string; name: string; password: string | null; owner: boolean; id?: string },
): Promise<MemberRow> {
  const createdAt = new Date(parts.now());
  const row = { id, email, name, owner, createdAt, joinedAt: password === null ? null : createdAt, lastSeenAt: null };
  const stored = password === null ? null : await storedPassword(parts, password, 'body.password', [email, name]);
  await new MemberStore(parts.database).add(row, stored);
  parts.actors.forget();
  return row;
}

/** The owner's account, at the one-time address of a first start. @throws {Problem} setup-done, setup-refused */
export async function createOwner(
  parts: Parts,
  call: Pick<Call, 'request' | 'id' | 'operation'> & { body: { token: string; email: string; name: string; password: string } },
): Promise<Member> {
  const { body } = call;
  if (!(await new MemberStore(parts.database).isEmpty())) throw new Problem('setup-done');
  if (!(await takeSetupToken(parts, body.token))) throw new Problem('setup-refused');
  try {
    const id = parts.newId();
    const watched = { kind: 'member', action: call.operation.id, subject: id, after: () => ({ owner: true }) } as const;
    const create = () => createMember(parts, { ...body, owner: true, id });
    return presentMember(await parts.audit.watch(originOfMember(call, id), watched, create));
  } catch (error) {
    // Without an account, a used token would lock everyone out until the next start.
    await keepSetupToken(parts, body.token);
    throw error;
  }
}

/**
 * The member with this address and password.
 * @throws {Problem} sign-in-refused, rate-exceeded
 */
export async function confirmMember(
  parts: Parts,
  call: Pick<Call, 'request'>,
  { email, password }: { email: string; password: string },
  words = 'E-mail address or password is wrong. Check both.',
): Promise<MemberRow> {
  const store = new MemberStore(parts.database);
  const guesses = new Guesses(parts.database, parts.now, 'guesses');
  const address = call.request.ip ?? '';
  const known = await guesses.demand(email, address);
  const found = await store.findByEmail(email);
  if ((await verifyPassword(found && (await store.passwordOf(found.id)), password)) && found) {
    await guesses.noteSuccess(email, address, known);
    return found;
  }
  await guesses.noteFailure(email, address);
  throw new Problem('sign-in-refused', words);
}

/** Starts a session: in a browser with a cookie, for the command with a token in the response. */
export async function beginSession(parts: Parts, call: AnyCall, member: Member, as: 'cookie' | 'token') {
  const token = formatKey('member', parts.random(16));
  const tokenHash = hashKey(token);
  const now = new Date(parts.now());
  const session = {
    tokenHash,
    memberId: member.id,
    kind: as,
    createdAt: now,
    expiresAt: new Date(now.getTime() + SESSION_MS[as]),
    lastSeenAt: now,
    confirmedAt: now,
    address: call.request.ip ?? null,
    userAgent: call.request.headers['user-agent']?.slice(0, 300) ?? null,
  };
  await parts.audit.watch(
    originOfMember(call, member.id),
    {
      kind: 'session',
      action: call.operation.id,
      subject: sessionId(tokenHash),
      after: () => ({ kind: as, userAgent: session.userAgent }),
    },
    () => new MemberStore(parts.database).addSession(session),
  );
  if (as === 'token') return { member, token };
  setCookie(parts, call.response, token, SESSION_MS.cookie);
  return { member, csrf: csrfValue(parts.secretKey, tokenHash) };
}

export async function endSession(parts: Parts, call: Pick<Call, 'member' | 'response'>): Promise<void> {
  await new MemberStore(parts.database).endSession(call.member?.tokenHash ?? '');
  setCookie(parts, call.response, '', 0);
}

function setCookie(parts: Parts, response: Response, value: string, maxAge: number): void {
  response.cookie(SESSION_COOKIE, value, {
    httpOnly: true,
    sameSite: 'lax',
    path: '/',
    maxAge,
    secure: parts.address().startsWith('https:'),
  });
}
