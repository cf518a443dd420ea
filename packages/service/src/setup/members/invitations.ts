/** Invitations to the team: a one-time address by mail, valid for seven days. */
import { type Invitation, Problem } from '@orchard/contract';
import { formatKey, readKey } from '@orchard/core';
import { hashKey } from '../../platform/access/secrets.js';
import type { Call } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { originOfMember, storedPassword } from './signIn.js';
import { type MemberRow, MemberStore } from './store.js';

const LIFE_MS = 7 * 86_400_000;

/**
 * Opens an invitation in place of an earlier one, and mails its address. Where no mail can be sent, the address is returned
 * to the owner who invites.
 */
export async function invite(parts: Parts, member: MemberRow, by: string): Promise<Invitation> {
  const token = formatKey('setup', parts.random(16));
  const expiresAt = new Date(parts.now() + LIFE_MS);
  await new MemberStore(parts.database).openInvitation(member.id, hashKey(token), expiresAt);
  const address = `${parts.address()}/join?token=${token}`;
  const reason = await mailed(parts, member.email, by, address);
  const opened = { expiresAt: expiresAt.toISOString(), mailed: reason === null };
  return reason === null ? opened : { ...opened, address, reason };
}

/** @returns why the mail could not be sent; null when it is on its way */
async function mailed({ memberMail, address: service }: Parts, to: string, by: string, address: string): Promise<string | null> {
  if (!(await memberMail.isSet()))
    return 'The installation has no mail server (ORCHARD_SMTP_URL) and no mail gateway. Pass the address on yourself.';
  try {
    await memberMail.send({
      to,
      subject: `${by} invites you to Vivid Orchard`,
      text: `${by} invites you to the team at ${service()}.\n\nChoose a name and a password here, within seven days:\n${address}\n\nThe address works once. If you do not know what this is about, ignore this mail.\n`,
    });
    return null;
  } catch (error) {
    return `The mail server did not accept the mail: ${(error as Error).message}. Pass the address on yourself.`;
  }
}

/**
 * Accepts an invitation: the member gets a name and a password.
 * @throws {Problem} invitation-refused, invalid-input
 */
export async function acceptInvitation(
  parts: Parts,
  call: Pick<Call, 'request' | 'id' | 'operation'> & { body: { token: string; email: string; name: string; password: string } },
): Promise<MemberRow> {
  const { token, email, name, password } = call.body;
  const store = new MemberStore(parts.database);
  const found = readKey(token).ok ? await store.invited(hashKey(token)) : undefined;
  if (!found) throw refused('It was used already, was replaced by a later one, or its member was removed.');
  const { member, expiresAt } = found;
  if (expiresAt.getTime() <= parts.now()) throw refused('It has expired; an invitation is valid for seven days.');
  if (member.email !== email) throw refused('It is for another mail address. Use the address that the invitation was sent to.');
  const stored = await storedPassword(parts, password, 'body.password', [email, name]);
  const watched = { kind: 'member', action: call.operation.id, subject: member.id, after: () => ({ joined: true }) } as const;
  await parts.audit.watch(originOfMember(call, member.id), watched, async () => {
    if (!(await store.join(member.id, hashKey(token), name, stored, new Date(parts.now())))) throw refused('It was used already.');
  });
  return store.named(member.id);
}

const refused = (why: string) => new Problem('invitation-refused', `The invitation cannot be accepted. ${why}`);
