/** The team: members, their roles, invitations, and the owner account of a new installation. */
import { z } from 'zod';
import { email, linkToken, memberId, nothing, operation, password, time } from '../common.js';
import { ROLES } from '../operation.js';
import { MEMBER_WAYS } from './memberWays.js';
import { member, ownAccountOperations, sessionKind, signedIn } from './ownAccount.js';

const grant = z.object({ app: z.string(), environment: z.string(), role: z.enum(ROLES) }).meta({ id: 'Grant' });
const teamMember = member
  .extend({
    joinedAt: time.nullable().describe('Null while the invitation is open'),
    lastSeenAt: time.nullable(),
    secondFactor: z.boolean().nullable().describe('Whether there is one; null for other members, except to owners'),
    reachableBy: z.array(z.enum(MEMBER_WAYS)).nullable().describe('Verified ways; null for other members, except to owners'),
    roles: z.array(grant).describe('Roles in environments that the caller may see; an owner needs none'),
  })
  .meta({ id: 'TeamMember' });
export type TeamMember = z.infer<typeof teamMember>;

const invitation = z
  .object({
    expiresAt: time,
    mailed: z.boolean().describe('Whether a mail is on its way; without one, pass the address on yourself'),
    address: z.string().optional().describe('The one-time address, where no mail could be sent'),
    reason: z.string().optional().describe('Why no mail could be sent'),
  })
  .meta({ id: 'Invitation' });
export type Invitation = z.infer<typeof invitation>;

const personName = z.string().trim().min(1).max(100);
/** Roles to set: in one environment of an app, or in all of them. */
const roleChanges = z
  .array(
    z.strictObject({
      app: z.string().max(40),
      environment: z.string().max(40).optional().describe('Every environment of the app, if left out'),
      role: z.enum(ROLES).nullable().describe('Null takes the role away'),
    }),
  )
  .max(1000);

const oneMember = z.object({ member: memberId });

export const memberOperations = {
  ...ownAccountOperations,
  readSetup: operation({
    id: 'setup.read',
    method: 'GET',
    path: '/manage/v1/setup',
    summary: 'Whether the owner account does not exist yet',
    caller: { kind: 'anyone' },
    reply: z.object({ needed: z.boolean() }),
  }),
  setUp: operation({
    id: 'setup.create',
    changes: 'member',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/setup',
    summary: 'Create the owner account with the one-time token printed at the first start',
    caller: { kind: 'anyone' },
    body: z.strictObject({ token: z.string().max(100), email, name: personName, password }),
    status: 201,
    reply: signedIn,
    problems: ['setup-done', 'setup-refused'],
  }),
  add: operation({
    id: 'members.add',
    confirmed: true,
    changes: 'member',
    command: 'member invite <email>',
    method: 'POST',
    path: '/manage/v1/members',
    summary: 'Invite a member by mail, with roles; with a first password, add one at once',
    caller: { kind: 'member', role: 'owner', person: true },
    body: z.strictObject({
      email,
      name: personName.optional().describe('The member chooses one when accepting, if left out'),
      owner: z.boolean().optional(),
      roles: roleChanges.optional(),
      password: password.optional().describe('For an account without an invitation'),
    }),
    status: 201,
    reply: teamMember.extend({ invitation: invitation.nullable() }),
    problems: ['already-exists', 'not-found'],
  }),
  invite: operation({
    id: 'members.invite',
    confirmed: true,
    changes: 'member',
    command: 'member reinvite',
    method: 'POST',
    path: '/manage/v1/members/{member}/invitations',
    summary: 'Send an open invitation again, with a new one-time address; the earlier one ends',
    caller: { kind: 'member', role: 'owner', person: true },
    params: oneMember,
    status: 201,
    reply: invitation,
    problems: ['not-found', 'wrong-state'],
  }),
  accept: operation({
    id: 'members.accept',
    changes: 'member',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/accepted-invitations',
    summary: 'Accept an invitation: choose name and password, and sign in',
    caller: { kind: 'anyone' },
    body: z.strictObject({ token: linkToken, email, name: personName, password, as: sessionKind }),
    status: 201,
    reply: signedIn,
    problems: ['invitation-refused', 'invalid-input'],
  }),
  makePasswordLink: operation({
    id: 'members.makePasswordLink',
    confirmed: true,
    changes: 'member',
    command: 'member password-link',
    method: 'POST',
    path: '/manage/v1/members/{member}/password-links',
    summary: 'A one-time address at which a member sets a new password, for you to pass on',
    caller: { kind: 'member', role: 'owner', person: true },
    params: oneMember,
    status: 201,
    reply: z.object({ address: z.string(), expiresAt: time }),
    problems: ['not-found'],
  }),
  patch: operation({
    id: 'members.patch',
    confirmed: true,
    changes: 'member',
    command: 'member change',
    method: 'PATCH',
    path: '/manage/v1/members/{member}',
    summary: "Change a member's name, roles, or ownership of the installation",
    caller: { kind: 'member', role: 'owner', person: true },
    params: oneMember,
    body: z.strictObject({ name: personName.optional(), owner: z.boolean().optional(), roles: roleChanges.optional() }),
    reply: teamMember,
    problems: ['not-found', 'invalid-input', 'wrong-state'],
  }),
  remove: operation({
    id: 'members.remove',
    confirmed: true,
    changes: 'member',
    command: 'member remove',
    method: 'DELETE',
    path: '/manage/v1/members/{member}',
    summary: 'Remove a member: their sessions and streams end at once',
    caller: { kind: 'member', role: 'owner', person: true },
    params: oneMember,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
  list: operation({
    id: 'members.list',
    command: 'member list',
    method: 'GET',
    path: '/manage/v1/members',
    summary: 'Members with their roles; owners see all, others only members they share an environment with, without mail addresses',
    caller: { kind: 'member', role: 'viewer' },
    reply: z.object({ items: z.array(teamMember) }),
  }),
};
