import { z } from 'zod';
import {
  appData,
  email,
  ENVIRONMENT,
  environmentParams,
  jsonObject,
  listQuery,
  nothing,
  operation,
  page,
  password,
  time,
  uuid,
} from '../common.js';

export const user = z
  .object({
    id: uuid,
    email: z.string(),
    name: z.string().nullable(),
    roles: z.array(z.string()),
    data: jsonObject.describe('Whatever the app keeps about the user'),
    disabled: z.boolean(),
    createdAt: time,
    updatedAt: time,
    lastSeenAt: time.nullable(),
  })
  .meta({ id: 'User' });
export type User = z.infer<typeof user>;

const name = z.string().trim().min(1).max(200);
const role = z.string().regex(/^[a-z][a-z0-9-]{0,38}$/, 'A lower-case letter, then up to 38 lower-case letters, digits or -.');
const newUser = z.strictObject({ email, password, name: name.optional(), data: appData.optional() });

export const tokens = z
  .object({
    accessToken: z.string(),
    accessTokenExpiresAt: time,
    refreshToken: z.string().describe('Good for one use; each refresh answers a new one'),
    refreshTokenExpiresAt: time,
    user,
  })
  .meta({ id: 'Tokens' });

export const userOperations = {
  signUp: operation({
    id: 'users.signUp',
    method: 'POST',
    path: '/app/v1/users',
    summary: 'Make an account; answers the user, signed in',
    caller: { kind: 'app', user: 'optional', scope: 'users:write' },
    body: newUser,
    status: 201,
    reply: tokens,
    problems: ['already-exists'],
  }),
  startSession: operation({
    id: 'sessions.start',
    method: 'POST',
    path: '/app/v1/sessions',
    summary: 'Sign in with e-mail address and password, or renew with a refresh token',
    caller: { kind: 'app', user: 'optional' },
    body: z.union([z.strictObject({ email, password: z.string().max(200) }), z.strictObject({ refreshToken: z.string().max(400) })]),
    status: 201,
    reply: tokens,
    problems: ['sign-in-refused', 'session-ended', 'token-expired', 'token-invalid'],
  }),
  endSession: operation({
    id: 'sessions.end',
    method: 'DELETE',
    path: '/app/v1/sessions/current',
    summary: 'Sign out: the refresh tokens of this session end',
    caller: { kind: 'app', user: 'required' },
    status: 204,
    reply: nothing,
  }),
  readMe: operation({
    id: 'users.readMe',
    method: 'GET',
    path: '/app/v1/users/me',
    summary: 'The signed-in user',
    caller: { kind: 'app', user: 'required' },
    reply: user,
  }),
  patchMe: operation({
    id: 'users.patchMe',
    method: 'PATCH',
    path: '/app/v1/users/me',
    summary: 'Change name or data of the signed-in user (merge patch)',
    caller: { kind: 'app', user: 'required' },
    body: z.strictObject({ name: name.nullable().optional(), data: appData.optional() }),
    reply: user,
  }),
  list: operation({
    id: 'users.list',
    method: 'GET',
    path: `${ENVIRONMENT}/users`,
    summary: 'Users of an environment',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams,
    query: listQuery,
    reply: page(user),
  }),
  read: operation({
    id: 'users.read',
    method: 'GET',
    path: `${ENVIRONMENT}/users/{user}`,
    summary: 'One user',
    caller: { kind: 'member', role: 'viewer' },
    params: environmentParams.extend({ user: uuid }),
    reply: user,
    problems: ['not-found'],
  }),
  create: operation({
    id: 'users.create',
    method: 'POST',
    path: `${ENVIRONMENT}/users`,
    summary: 'Make an account for somebody',
    caller: { kind: 'member', role: 'developer' },
    params: environmentParams,
    body: newUser.extend({ roles: z.array(role).max(20).optional() }),
    status: 201,
    reply: user,
    problems: ['already-exists'],
  }),
  patch: operation({
    id: 'users.patch',
    method: 'PATCH',
    path: `${ENVIRONMENT}/users/{user}`,
    summary: 'Change name, roles or data of a user, or disable it',
    caller: { kind: 'member', role: 'developer' },
    params: environmentParams.extend({ user: uuid }),
    body: z.strictObject({
      name: name.nullable().optional(),
      roles: z.array(role).max(20).optional(),
      data: appData.optional(),
      disabled: z.boolean().optional(),
    }),
    reply: user,
    problems: ['not-found'],
  }),
  remove: operation({
    id: 'users.remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/users/{user}`,
    summary: 'Delete a user; records they own stay, owned by nobody',
    caller: { kind: 'member', role: 'maintainer' },
    params: environmentParams.extend({ user: uuid }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
