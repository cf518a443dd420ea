/** Members' passwords: forgotten, reset, changed. */
import { Problem } from '@orchard/contract';
import { linkMail, type LinkTable, makeLink, takeLink } from '../../platform/access/oneTimeLinks.js';
import { demandGoodPassword, WRONG_PASSWORD } from '../../platform/access/passwords.js';
import { originOf } from '../../platform/audit/audit.js';
import type { Call } from '../../platform/call.js';
import { guarded } from '../../platform/upkeep.js';
import type { Parts } from './parts.js';
import type { MemberCall } from './factors.js';
import { confirmMember, originOfMember, storedPassword } from './signIn.js';
import { type MemberRow, MemberStore } from './store.js';

const LINKS: LinkTable = { table: 'memberLinks', owner: 'memberId' };
/** The name used in mail to a member. */
const ANYBODY = 'Vivid Orchard';

/** Sets a password; sessions other than `kept` end. */
async function setPassword(parts: Parts, member: MemberRow, password: string, path: string, kept: string): Promise<void> {
  const stored = await storedPassword(parts, password, path, [member.email, member.name]);
  await new MemberStore(parts.database).setPassword(member.id, stored, kept);
}

/** The one-time address at which a member sets a password; null when too many are open. */
async function passwordAddress(parts: Parts, memberId: string): Promise<{ address: string; expiresAt: string } | null> {
  const link = await makeLink(parts, LINKS, memberId);
  return link && { address: `${parts.address()}/new-password?of=member&token=${link.token}`, expiresAt: link.expiresAt.toISOString() };
}

/** Mails a one-time address, if there is such a member. @throws {Problem} gateway-missing */
export async function mailPasswordLink(parts: Parts, email: string): Promise<void> {
  const { memberMail } = parts;
  if (!(await memberMail.isSet()))
    throw new Problem(
      'gateway-missing',
      'This installation has no mail server, so no one-time address can be sent. Ask an owner for one. To set up mail, set ORCHARD_SMTP_URL, or add a mail gateway of the installation.',
    );
  const member = await new MemberStore(parts.database).findByEmail(email);
  const link = member && (await passwordAddress(parts, member.id));
  // Not awaited: its duration would reveal whether the account exists.
  if (link) void guarded(parts, 'mail a one-time address', {}, () => memberMail.send({ to: email, ...linkMail(ANYBODY, link.address) }));
}

/** A one-time address, to hand on. @throws {Problem} not-found, rate-exceeded */
export async function handOutPasswordLink(parts: Parts, memberId: string): Promise<{ address: string; expiresAt: string }> {
  await new MemberStore(parts.database).named(memberId);
  const link = await passwordAddress(parts, memberId);
  if (link) return link;
  throw new Problem('rate-exceeded', 'Five such addresses are open already. Use one of those, or wait an hour.', { retryAfterS: 600 });
}

/** @throws {Problem} link-refused, invalid-input */
export async function setPasswordByLink(
  parts: Parts,
  call: Pick<Call, 'request' | 'id' | 'operation'> & { body: { token: string; password: string } },
): Promise<void> {
  const { token, password } = call.body;
  const member = await takeLink(parts, LINKS, token, async (id) => {
    const found = await new MemberStore(parts.database).named(id);
    demandGoodPassword(password, 'body.password', [found.email, found.name]);
    return found;
  });
  await parts.audit.watch(originOfMember(call, member.id), passwordChange(call, member.id), () =>
    setPassword(parts, member, password, 'body.password', ''),
  );
}

const passwordChange = ({ operation }: Pick<Call, 'operation'>, memberId: string) =>
  ({ kind: 'member', action: operation.id, subject: memberId, after: () => ({ password: 'changed' }) }) as const;

/** @throws {Problem} sign-in-refused, rate-exceeded, invalid-input */
export async function changePassword(
  parts: Parts,
  call: MemberCall,
  { password, newPassword }: { password: string; newPassword: string },
): Promise<void> {
  const { email, tokenHash } = call.member;
  const member = await confirmMember(parts, call, { email, password }, WRONG_PASSWORD);
  await parts.audit.watch(originOf(call), passwordChange(call, member.id), () =>
    setPassword(parts, member, newPassword, 'body.newPassword', tokenHash),
  );
}
