import { z } from 'zod';
import { email, nothing, operation, password } from '../common.js';
import { ROLES } from '../operation.js';

export const member = z.object({ id: z.string(), email: z.string(), name: z.string(), owner: z.boolean() }).meta({ id: 'Member' });
export type Member = z.infer<typeof member>;

const anyone = { kind: 'anyone' } as const;
const signedIn = z.object({
  member,
  csrf: z.string().optional().describe('For a cookie session: send it as `Orchard-Csrf` with every write'),
  token: z.string().optional().describe('For a token session: send it as `Authorization: Bearer`'),
});

export const memberOperations = {
  readSetup: operation({
    id: 'setup.read',
    method: 'GET',
    path: '/manage/v1/setup',
    summary: 'Whether the owner account is still to be made',
    caller: anyone,
    reply: z.object({ needed: z.boolean() }),
  }),
  setUp: operation({
    id: 'setup.create',
    method: 'POST',
    path: '/manage/v1/setup',
    summary: 'Make the owner account with the one-time token the first start printed',
    caller: anyone,
    body: z.strictObject({ token: z.string().max(100), email, name: z.string().trim().min(1).max(100), password }),
    status: 201,
    reply: signedIn,
    problems: ['setup-done', 'setup-refused'],
  }),
  signIn: operation({
    id: 'memberSessions.start',
    method: 'POST',
    path: '/manage/v1/session',
    summary: 'Sign in as a member',
    caller: anyone,
    body: z.strictObject({ email, password: z.string().max(200), as: z.enum(['cookie', 'token']).default('cookie') }),
    status: 201,
    reply: signedIn,
    problems: ['sign-in-refused'],
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
    method: 'DELETE',
    path: '/manage/v1/session',
    summary: 'Sign out',
    caller: { kind: 'member', role: 'viewer' },
    status: 204,
    reply: nothing,
  }),
  add: operation({
    id: 'members.add',
    method: 'POST',
    path: '/manage/v1/members',
    summary: 'Add a member with a role in every environment of an app, and a first password',
    caller: { kind: 'member', role: 'owner' },
    body: z.strictObject({ email, name: z.string().trim().min(1).max(100), password, app: z.string().max(40), role: z.enum(ROLES) }),
    status: 201,
    reply: member,
    problems: ['already-exists', 'not-found'],
  }),
  list: operation({
    id: 'members.list',
    method: 'GET',
    path: '/manage/v1/members',
    summary: 'Members',
    caller: { kind: 'member', role: 'viewer' },
    reply: z.object({ items: z.array(member) }),
  }),
};
