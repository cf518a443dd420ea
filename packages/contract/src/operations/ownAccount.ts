/** A member's own account: signing in, sessions, password and mail address. */
import { z } from 'zod';
import { email, givenPassword, linkToken, nothing, operation, password, time } from '../common.js';
import { givenCode, passkeyResponse } from './secondFactors.js';

/** A member, as everybody sees one. */
export const member = z
  .object({
    id: z.string(),
    email: z.string().nullable().describe('Null for other members, except to owners'),
    name: z.string(),
    owner: z.boolean().describe('Owner of the installation: every right in every environment'),
  })
  .meta({ id: 'Member' });
export type Member = z.infer<typeof member>;

const session = z
  .object({
    id: z.string(),
    kind: z.enum(['cookie', 'token']).describe('`cookie` in a browser, `token` for the command'),
    current: z.boolean().describe('The session of this call'),
    createdAt: time,
    lastSeenAt: time.nullable(),
    expiresAt: time,
    address: z.string().nullable().describe('The network address of the sign-in'),
    userAgent: z.string().nullable(),
  })
  .meta({ id: 'MemberSession' });
export type MemberSession = z.infer<typeof session>;

/** How a session is kept: by a browser, or by the command. */
export const sessionKind = z.enum(['cookie', 'token']).default('cookie');
/** The reply of everything that signs a member in. */
export const signedIn = z.object({
  member,
  csrf: z.string().optional().describe('For a cookie session: send it as `Orchard-Csrf` with every write'),
  token: z.string().optional().describe('For a token session: send it as `Authorization: Bearer`'),
});
const anyone = { kind: 'anyone' } as const;

export const ownAccountOperations = {
  signIn: operation({
    id: 'memberSessions.start',
    changes: 'session',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/session',
    summary: 'Sign in as a member',
    caller: anyone,
    body: z.strictObject({
      email,
      password: givenPassword,
      code: givenCode.optional().describe('With a second factor: a code of the authenticator app, or a recovery code'),
      as: sessionKind,
    }),
    status: 201,
    reply: signedIn,
    problems: ['sign-in-refused', 'second-factor-needed', 'second-factor-refused', 'rate-exceeded'],
  }),
  signInWithPasskey: operation({
    id: 'memberSessions.startWithPasskey',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/passkey-sessions',
    summary: 'Sign in with a passkey, which stands for password and second factor',
    caller: anyone,
    body: z.strictObject({ passkey: passkeyResponse, as: sessionKind }),
    status: 201,
    reply: signedIn,
    problems: ['second-factor-refused', 'rate-exceeded'],
  }),
  readSession: operation({
    id: 'memberSessions.read',
    method: 'GET',
    path: '/manage/v1/session',
    summary: 'Who is signed in',
    caller: { kind: 'member', role: 'viewer' },
    reply: signedIn,
  }),
  signOut: operation({
    id: 'memberSessions.end',
    changes: 'session',
    method: 'DELETE',
    path: '/manage/v1/session',
    summary: 'Sign out',
    caller: { kind: 'member', role: 'viewer', person: true },
    status: 204,
    reply: nothing,
  }),
  sessions: operation({
    id: 'memberSessions.list',
    command: 'session list',
    method: 'GET',
    path: '/manage/v1/sessions',
    summary: 'Your own sessions, latest first',
    caller: { kind: 'member', role: 'viewer', person: true },
    reply: z.object({ items: z.array(session) }),
  }),
  endOthers: operation({
    id: 'memberSessions.endOthers',
    changes: 'session',
    command: 'session end-others',
    method: 'DELETE',
    path: '/manage/v1/sessions',
    summary: 'End all of your other sessions',
    caller: { kind: 'member', role: 'viewer', person: true },
    reply: z.object({ ended: z.number().int() }),
  }),
  endSession: operation({
    id: 'memberSessions.endOne',
    changes: 'session',
    command: 'session end',
    method: 'DELETE',
    path: '/manage/v1/sessions/{session}',
    summary: 'End one of your sessions',
    caller: { kind: 'member', role: 'viewer', person: true },
    params: z.object({ session: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  changeEmail: operation({
    id: 'members.changeEmail',
    changes: 'member',
    rate: 'sign-in',
    method: 'PUT',
    path: '/manage/v1/session/email',
    summary: 'Change your mail address: a one-time address goes to the new one, and opening it makes the change',
    caller: { kind: 'member', role: 'viewer', person: true },
    body: z.strictObject({ email, password: givenPassword }),
    status: 202,
    reply: z.object({ expiresAt: time }),
    problems: ['sign-in-refused', 'rate-exceeded', 'gateway-missing', 'already-exists'],
  }),
  confirmEmail: operation({
    id: 'members.confirmEmail',
    changes: 'member',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/new-emails',
    summary: 'Confirm a new mail address with the token that was mailed to it',
    caller: anyone,
    body: z.strictObject({ token: linkToken }),
    reply: z.object({ email: z.string() }),
    problems: ['link-refused', 'already-exists'],
  }),
  forgotPassword: operation({
    id: 'members.forgotPassword',
    changes: 'nothing',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/password-links',
    summary: "Mail a member a one-time address for setting a new password, through the installation's mail server",
    caller: anyone,
    body: z.strictObject({ email }),
    status: 202,
    reply: z.object({}),
    problems: ['gateway-missing', 'rate-exceeded'],
  }),
  newPassword: operation({
    id: 'members.newPassword',
    changes: 'member',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/new-passwords',
    summary: 'Set a new password with the token of a one-time address; every session of the member ends',
    caller: anyone,
    body: z.strictObject({ token: linkToken, password }),
    status: 204,
    reply: nothing,
    problems: ['link-refused', 'invalid-input'],
  }),
  changePassword: operation({
    id: 'members.changePassword',
    changes: 'member',
    rate: 'sign-in',
    method: 'PUT',
    path: '/manage/v1/session/password',
    summary: 'Change your own password; your other sessions end',
    caller: { kind: 'member', role: 'viewer', person: true },
    body: z.strictObject({ password: givenPassword, newPassword: password }),
    status: 204,
    reply: nothing,
    problems: ['sign-in-refused', 'rate-exceeded', 'invalid-input'],
  }),
};
