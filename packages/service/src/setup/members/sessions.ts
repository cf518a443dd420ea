/** A member's own sessions: what is signed in where, and how to end it. */
import { type MemberSession, Problem } from '@orchard/contract';
import type { SignedInMember } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { SESSION_ID_LENGTH, sessionId } from './signIn.js';
import { MemberStore } from './store.js';

export async function sessionsOf(parts: Parts, member: SignedInMember): Promise<MemberSession[]> {
  const rows = await new MemberStore(parts.database).sessionsOf(member.id, new Date(parts.now()));
  return rows.map((row) => ({
    id: sessionId(row.tokenHash),
    kind: row.kind as MemberSession['kind'],
    current: row.tokenHash === member.tokenHash,
    createdAt: row.createdAt.toISOString(),
    lastSeenAt: row.lastSeenAt?.toISOString() ?? null,
    expiresAt: row.expiresAt.toISOString(),
    address: row.address,
    userAgent: row.userAgent,
  }));
}

/** @throws {Problem} not-found */
export async function endOneSession(parts: Parts, member: SignedInMember, id: string): Promise<void> {
  const known = new RegExp(`^[0-9a-f]{${SESSION_ID_LENGTH}}$`).test(id);
  if (!known || !(await new MemberStore(parts.database).endSessionOf(member.id, id)))
    throw new Problem('not-found', `You have no session ${id}. It may have ended already.`);
}

export const endOtherSessions = (parts: Parts, { id, tokenHash }: SignedInMember): Promise<number> =>
  new MemberStore(parts.database).endOtherSessions(id, tokenHash);
