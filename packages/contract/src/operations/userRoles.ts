/** Roles of users: what each is for, and who has it besides those it is given to by hand. */
import { z } from 'zod';
import { ENVIRONMENT, environmentParams, nothing, operation } from '../common.js';
import { role } from './users.js';

const viewer = { kind: 'member', role: 'viewer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const ROLES = `${ENVIRONMENT}/user-roles`;
const ofRole = environmentParams.extend({ role });

export const userRoleShape = {
  description: z.string().max(500).default(''),
  rule: z
    .string()
    .max(2000)
    .nullable()
    .default(null)
    .describe(
      'A condition in CQL2: whoever fits it has the role. It asks user fields that only servers change, `email` once it is confirmed, and times',
    ),
};
const userRole = z
  .object({
    name: z.string(),
    ...userRoleShape,
    users: z.int().describe('How many have it'),
    groups: z.array(z.object({ way: z.string(), group: z.string() })).describe('Groups at providers outside that give it'),
    isDefined: z.boolean().describe('False for a name that users have, and nobody has described'),
  })
  .meta({ id: 'UserRole' });
export type UserRole = z.output<typeof userRole>;
const origins = z
  .object({
    hand: z.array(z.string()),
    ways: z.record(z.string(), z.array(z.string())).describe('By way to sign in'),
    rule: z.array(z.string()),
  })
  .meta({ id: 'RoleOrigins' });

export const userRoleOperations = {
  list: operation({
    id: 'userRoles.list',
    command: 'role list',
    method: 'GET',
    path: ROLES,
    summary: 'Roles of users, with their rules, and how many have each',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(userRole) }),
  }),
  put: operation({
    id: 'userRoles.put',
    changes: 'user role',
    command: 'role set',
    method: 'PUT',
    path: `${ROLES}/{role}`,
    summary: 'Describe a role of users, and say by a rule who has it; those it was given to by hand or by a group keep it',
    caller: maintainer,
    params: ofRole,
    body: z.strictObject(userRoleShape),
    reply: userRole,
    problems: ['malformed-filter', 'invalid-input'],
  }),
  remove: operation({
    id: 'userRoles.remove',
    changes: 'user role',
    command: 'role remove',
    method: 'DELETE',
    path: `${ROLES}/{role}`,
    summary: 'Take a role’s description and rule back; who had it by the rule has it no longer',
    caller: maintainer,
    params: ofRole,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  ofUser: operation({
    id: 'userRoles.ofUser',
    command: 'user roles',
    method: 'GET',
    path: `${ENVIRONMENT}/users/{user}/roles`,
    summary: 'The roles of a user, by where they come from',
    caller: viewer,
    params: environmentParams.extend({ user: z.uuid() }),
    reply: origins,
    problems: ['not-found'],
  }),
};
