import { z } from 'zod';
import { AUDIT_KINDS, type AuditKind, AUDIT_OUTCOMES } from '../audit.js';
import { actor, listQuery, operation, page, time } from '../common.js';

const entry = z
  .object({
    id: z.string(),
    number: z.int().describe('Its place in the chain of its database, from 1'),
    database: z.string().describe('`installation`, or the id of an environment'),
    at: time,
    actor,
    app: z.string().nullable(),
    environment: z.string().nullable(),
    action: z.string().describe('The id of the operation'),
    summary: z.string().describe('What the action does'),
    kind: z.enum(Object.keys(AUDIT_KINDS) as [AuditKind, ...AuditKind[]]).describe('The kind of thing that was changed'),
    subject: z.string().describe('Its name or id'),
    outcome: z.enum(AUDIT_OUTCOMES),
    before: z.unknown().describe('Of what changed; null for something new. Secrets are masked, personal data has a fingerprint'),
    after: z.unknown().describe('Of what changed; null for something deleted'),
    address: z.string().nullable().describe('The network address of the call'),
    request: z.string().nullable().describe('The id of the recorded request'),
  })
  .meta({ id: 'AuditEntry' });
export type AuditEntry = z.infer<typeof entry>;

const head = z.object({
  database: z.string(),
  app: z.string().nullable(),
  environment: z.string().nullable(),
  number: z.int().describe('Entries so far'),
  mac: z.string().describe('MAC of the latest entry: HMAC-SHA-256 over it and the MAC before it, base64url'),
});
export type AuditHead = z.infer<typeof head>;

export const AUDIT_FAULTS = ['changed', 'missing', 'cut-off', 'head-changed', 'not-in-chain'] as const;
const chain = head
  .extend({
    ok: z.boolean(),
    faults: z
      .array(z.object({ number: z.int().describe('Of the entry'), fault: z.enum(AUDIT_FAULTS), detail: z.string() }))
      .describe('At most 100'),
  })
  .meta({ id: 'AuditChain' });
export type AuditChain = z.infer<typeof chain>;

const which = listQuery.extend({
  app: z.string().max(40).optional().describe('Only of this app'),
  environment: z.string().max(40).optional().describe('Only of this environment of the app'),
  by: z.string().max(100).optional().describe('Only by this member or token: name or id'),
});
const viewer = { kind: 'member', role: 'viewer' } as const;
const owner = { kind: 'member', role: 'owner' } as const;

export const auditOperations = {
  list: operation({
    id: 'audit.list',
    command: 'audit list',
    method: 'GET',
    path: '/manage/v1/audit',
    summary: 'What members, tokens and the service changed, latest first; owners see all, maintainers their environments',
    caller: viewer,
    query: which,
    reply: page(entry),
    problems: ['malformed-filter', 'not-found'],
  }),
  export: operation({
    id: 'audit.export',
    command: 'audit export',
    method: 'GET',
    path: '/manage/v1/audit/file',
    summary: 'The same entries as a file, oldest first',
    caller: viewer,
    query: which.omit({ limit: true, cursor: true, sort: true }).extend({ format: z.enum(['ndjson', 'csv']).default('ndjson') }),
    reply: z.string(),
    replyTypes: ['application/x-ndjson', 'text/csv'],
    problems: ['malformed-filter', 'not-found'],
  }),
  heads: operation({
    id: 'audit.heads',
    method: 'GET',
    path: '/manage/v1/audit/heads',
    summary: 'The head of each chain, as the log has it each hour',
    caller: owner,
    reply: z.object({ items: z.array(head) }),
  }),
  verify: operation({
    id: 'audit.verify',
    command: 'audit verify',
    method: 'POST',
    path: '/manage/v1/audit/verifications',
    summary: 'Check every chain: whether an entry was changed, removed or cut off',
    caller: owner,
    changes: 'nothing',
    body: z.strictObject({
      heads: z
        .array(head.pick({ database: true, number: true, mac: true }))
        .max(10_000)
        .optional()
        .describe('Heads noted earlier, such as those in the log; each must still be in its chain'),
    }),
    reply: z.object({ ok: z.boolean(), items: z.array(chain) }),
  }),
};
