import { operations } from '@orchard/contract';
import { csrfValue } from '../../platform/access/steps.js';
import { bind, type Call, type Naming, type Route, type SignedInMember } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { factorRoutes } from './factorRoutes.js';
import { type MemberCall, memberOfPasskey, proveFactor } from './factors.js';
import { acceptInvitation } from './invitations.js';
import { changeEmail, confirmEmail } from './mailChange.js';
import { endOneSession, endOtherSessions, sessionsOf } from './sessions.js';
import { changePassword, handOutPasswordLink, mailPasswordLink, setPasswordByLink } from './passwords.js';
import { beginSession, confirmMember, createOwner, endSession, presentMember, sessionId } from './signIn.js';
import { MemberStore } from './store.js';
import { Team } from './team.js';

/** These change something before it is known who calls, or wait for the mail server: they write their entries themselves. */
const OWN = { as: 'own' } as const;

export function memberRoutes(parts: Parts): Route[] {
  return [...signInRoutes(parts), ...sessionRoutes(parts), ...passwordRoutes(parts), ...factorRoutes(parts), ...teamRoutes(parts)];
}

function signInRoutes(parts: Parts): Route[] {
  const own = operations.members;
  const store = new MemberStore(parts.database);
  return [
    bind(own.readSetup, async () => ({ body: { needed: await store.isEmpty() } })),
    bind(own.setUp, async (call) => ({ body: await beginSession(parts, call, await createOwner(parts, call), 'cookie') })),
    bind(own.signIn, async (call) => {
      const member = await confirmMember(parts, call, call.body);
      await proveFactor(parts, call, member.id, call.body.code);
      return { body: await beginSession(parts, call, presentMember(member), call.body.as) };
    }),
    bind(own.signInWithPasskey, async (call) => {
      const member = await store.named(await memberOfPasskey(parts, call.body.passkey));
      return { body: await beginSession(parts, call, presentMember(member), call.body.as) };
    }),
    bind(own.accept, async (call) => {
      const member = presentMember(await acceptInvitation(parts, call));
      return { body: await beginSession(parts, call, member, call.body.as) };
    }),
  ];
}

function sessionRoutes(parts: Parts): Route[] {
  const own = operations.members;
  const subject = (call: Pick<Call, 'member'>) => sessionId((call.member as SignedInMember).tokenHash);
  return [
    bind(own.readSession, async (call) => ({ body: sessionOf(parts, call.member as SignedInMember) })),
    bind(
      own.signOut,
      async (call) => {
        await endSession(parts, call as Call);
        return { body: undefined };
      },
      { subject },
    ),
    bind(own.sessions, async (call) => ({ body: { items: await sessionsOf(parts, call.member as SignedInMember) } })),
    bind(own.endOthers, async (call) => ({ body: { ended: await endOtherSessions(parts, call.member as SignedInMember) } }), {
      subject: () => 'all others',
    }),
    bind(own.endSession, async (call) => {
      await endOneSession(parts, call.member as SignedInMember, call.params.session);
      return { body: undefined };
    }),
  ];
}

/** A browser needs the value that its writes carry; the command's token needs none. */
function sessionOf({ secretKey }: Parts, member: SignedInMember) {
  return { member: presentMember(member), ...(member.via === 'cookie' ? { csrf: csrfValue(secretKey, member.tokenHash) } : {}) };
}

/** Passwords and mail addresses. */
function passwordRoutes(parts: Parts): Route[] {
  const own = operations.members;
  return [
    bind(own.forgotPassword, async (call) => {
      await mailPasswordLink(parts, call.body.email);
      return { body: {} };
    }),
    bind(own.newPassword, async (call) => {
      await setPasswordByLink(parts, call);
      return { body: undefined };
    }),
    bind(
      own.changePassword,
      async (call) => {
        await changePassword(parts, call as Call & MemberCall, call.body);
        return { body: undefined };
      },
      OWN,
    ),
    bind(own.changeEmail, async (call) => ({ body: await changeEmail(parts, call as Call & MemberCall, call.body) }), OWN),
    bind(own.confirmEmail, async (call) => ({ body: await confirmEmail(parts, call) })),
    bind(own.makePasswordLink, async (call) => ({ body: await handOutPasswordLink(parts, call.params.member) }), {
      subject: ({ params }) => params.member,
      after: ({ expiresAt }) => ({ expiresAt }),
    }),
  ];
}

function teamRoutes(parts: Parts): Route[] {
  const own = operations.members;
  const team = new Team(parts);
  const audited = { read: (call: Naming<{ member: string }>) => team.kept(call.params.member) };
  return [
    bind(own.list, async (call) => ({ body: { items: await team.visibleTo(call.member as SignedInMember) } })),
    bind(own.add, async (call) => ({ body: await team.add(call.body, call as Call & MemberCall) }), OWN),
    bind(own.invite, async (call) => ({ body: await team.inviteAgain(call as Call & MemberCall, call.params.member) }), OWN),
    bind(own.patch, async (call) => ({ body: await team.change(call.params.member, call.body) }), audited),
    bind(
      own.remove,
      async (call) => {
        await team.remove(call.params.member);
        return { body: undefined };
      },
      audited,
    ),
    bind(operations.secondFactors.reset, async (call) => {
      await team.resetFactors(call.params.member);
      return { body: undefined };
    }),
  ];
}
