import { z } from 'zod';
import { actor, nothing, operation, time } from '../common.js';
import { ROLES } from '../operation.js';

const role = z.object({ app: z.string(), environment: z.string(), role: z.enum(ROLES) });
const token = z
  .object({
    id: z.string(),
    name: z.string(),
    hint: z.string().describe('Its last six characters'),
    roles: z.array(role),
    createdBy: actor,
    createdAt: time,
    expiresAt: time,
    lastUsedAt: time.nullable(),
    lastUsedFrom: z.string().nullable().describe('A network address'),
    revokedAt: time.nullable(),
  })
  .meta({ id: 'AutomationToken' });
export type AutomationToken = z.infer<typeof token>;

/** The longest life of a token. */
export const TOKEN_DAYS = 366;

const person = { kind: 'member', role: 'viewer', person: true } as const;

/** Secrets with which scripts call the API for the team: the same calls as members, within the roles they were given. */
export const tokenOperations = {
  list: operation({
    id: 'tokens.list',
    command: 'token list',
    method: 'GET',
    path: '/manage/v1/tokens',
    summary: 'Automation tokens in environments you maintain; owners see all',
    caller: { kind: 'member', role: 'viewer' },
    reply: z.object({ items: z.array(token) }),
  }),
  create: operation({
    id: 'tokens.create',
    changes: 'token',
    confirmed: true,
    command: 'token add <name>',
    method: 'POST',
    path: '/manage/v1/tokens',
    summary: 'Create an automation token; it is shown this once',
    caller: person,
    body: z.strictObject({
      name: z.string().trim().min(1).max(100),
      roles: z
        .array(
          z.strictObject({
            app: z.string().max(40),
            environment: z.string().max(40).optional().describe('Every environment of the app, if left out'),
            role: z.enum(ROLES),
          }),
        )
        .min(1)
        .max(1000)
        .describe('At most your own role in each environment, which must be maintainer or owner'),
      days: z.int().min(1).max(TOKEN_DAYS).default(90).describe('How long it is valid'),
    }),
    status: 201,
    reply: token.extend({ token: z.string().describe('Send it as `Authorization: Bearer`') }),
    problems: ['not-found', 'role-insufficient'],
  }),
  revoke: operation({
    id: 'tokens.revoke',
    changes: 'token',
    command: 'token revoke',
    method: 'DELETE',
    path: '/manage/v1/tokens/{token}',
    summary: 'Revoke an automation token: its calls and streams end at once',
    caller: person,
    params: z.object({ token: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found', 'role-insufficient'],
  }),
};
