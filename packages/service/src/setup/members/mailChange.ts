/** A member's new mail address, which is used once the member has confirmed it from there. */
import { Problem } from '@orchard/contract';
import { formatKey, readKey } from '@orchard/core';
import { WRONG_PASSWORD } from '../../platform/access/passwords.js';
import { hashKey } from '../../platform/access/secrets.js';
import { originOf } from '../../platform/audit/audit.js';
import type { Call } from '../../platform/call.js';
import { guarded } from '../../platform/upkeep.js';
import type { Parts } from './parts.js';
import type { MemberCall } from './factors.js';
import { confirmMember, originOfMember } from './signIn.js';
import { MemberStore } from './store.js';

const LIFE_MS = 86_400_000;

/** @throws {Problem} sign-in-refused, rate-exceeded, gateway-missing, already-exists */
export async function changeEmail(
  parts: Parts,
  call: MemberCall,
  { email, password }: { email: string; password: string },
): Promise<{ expiresAt: string }> {
  if (!(await parts.memberMail.isSet()))
    throw new Problem(
      'gateway-missing',
      'The installation has no mail server, so a new address cannot be confirmed. Set ORCHARD_SMTP_URL, or add a mail gateway of the installation.',
    );
  const store = new MemberStore(parts.database);
  const member = await confirmMember(parts, call, { email: call.member.email, password }, WRONG_PASSWORD);
  if (await store.findByEmail(email)) throw new Problem('already-exists', `There is a member ${email} already.`);
  const token = formatKey('setup', parts.random(16));
  const expiresAt = new Date(parts.now() + LIFE_MS);
  const watched = {
    kind: 'member',
    action: call.operation.id,
    subject: member.id,
    after: () => ({ email: { withheld: parts.audit.fingerprint(email) } }),
  } as const;
  await parts.audit.watch(originOf(call), watched, () => store.openMailChange(member.id, hashKey(token), email, expiresAt));
  const address = `${parts.address()}/confirm-email?token=${token}`;
  try {
    await parts.memberMail.send({
      to: email,
      subject: 'Confirm your mail address for Vivid Orchard',
      text: `${member.name} wants to use this mail address at ${parts.address()}.\n\nConfirm it here, within a day:\n${address}\n\nIf this was not you, ignore this mail: nothing changes.\n`,
    });
  } catch (error) {
    throw new Problem('gateway-missing', `The mail server did not accept the mail to ${email}: ${(error as Error).message}.`);
  }
  return { expiresAt: expiresAt.toISOString() };
}

/** @throws {Problem} link-refused, already-exists */
export async function confirmEmail(
  parts: Parts,
  call: Pick<Call, 'request' | 'id' | 'operation'> & { body: { token: string } },
): Promise<{ email: string }> {
  const { token } = call.body;
  const now = new Date(parts.now());
  const store = new MemberStore(parts.database);
  const changed = readKey(token).ok
    ? await parts.database.unit(async () => {
        const found = await store.confirmMail(hashKey(token), now);
        if (found) await noteChange(parts, call, found.member, found.email);
        return found;
      })
    : undefined;
  if (!changed) throw new Problem('link-refused');
  const { member, email } = changed;
  void guarded(parts, 'mail about a changed address', {}, async () =>
    parts.memberMail.send({
      to: member.email,
      subject: 'Your mail address for Vivid Orchard was changed',
      text: `${member.name} signs in at ${parts.address()} with ${email} from now on, no longer with this address.\n\nIf this was not you, ask an owner for help at once.\n`,
    }),
  );
  return { email };
}

function noteChange(parts: Parts, call: Pick<Call, 'request' | 'id' | 'operation'>, member: { id: string; email: string }, email: string) {
  const { fingerprint } = parts.audit;
  return parts.audit.note(originOfMember(call, member.id), {
    action: call.operation.id,
    kind: 'member',
    subject: member.id,
    before: { email: { withheld: fingerprint(member.email) } },
    after: { email: { withheld: fingerprint(email) } },
  });
}
