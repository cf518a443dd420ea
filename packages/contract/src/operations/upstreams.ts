/** Upstreams: systems of others that functions and apps call through the service, each at one address. */
import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, jsonObject, nothing, operation, slug, time } from '../common.js';
import { trust } from './gateways.js';

export const UPSTREAM_METHODS = ['GET', 'POST', 'PUT', 'PATCH', 'DELETE'] as const;
export type UpstreamMethod = (typeof UPSTREAM_METHODS)[number];
/** How the service shows an upstream who calls. Secrets are named, never held. */
export const UPSTREAM_WAYS = ['none', 'basic', 'header', 'client-credentials', 'exchange', 'user-token', 'certificate'] as const;

const header = z.string().regex(/^[A-Za-z0-9-]{1,60}$/, 'the name of a header, such as X-Weather-Key');
const secret = slug.describe('The name of a secret of this environment');
const tokenAddress = z.url({ protocol: /^https?$/ }).describe('Where tokens are asked for');
const scope = z.string().max(500).optional();
const identify = z
  .discriminatedUnion('way', [
    z.strictObject({ way: z.literal('none') }),
    z.strictObject({ way: z.literal('basic'), user: z.string().max(200), secret }).describe('HTTP Basic (RFC 7617)'),
    z.strictObject({ way: z.literal('header'), header, prefix: z.string().max(40).optional(), secret }),
    z
      .strictObject({ way: z.literal('client-credentials'), tokenAddress, clientId: z.string().max(200), secret, scope })
      .describe('OAuth 2.0 client credentials (RFC 6749 section 4.4)'),
    z
      .strictObject({
        way: z.literal('exchange'),
        tokenAddress,
        clientId: z.string().max(200),
        secret,
        provider: slug,
        audience: z.string().max(500).optional(),
        scope,
      })
      .describe('The token of the signed-in user at a provider, exchanged for one of this system (RFC 8693)'),
    z
      .strictObject({ way: z.literal('user-token'), provider: slug })
      .describe('The token of the signed-in user at a provider, as it is kept'),
    z
      .strictObject({ way: z.literal('certificate'), certificate: z.string().max(20_000).describe('PEM'), secret })
      .describe('A client certificate; the secret holds its private key in PEM'),
  ])
  .describe('How it is shown who calls');
export type UpstreamIdentify = z.output<typeof identify>;

const path = z
  .string()
  .max(300)
  .regex(/^\/[A-Za-z0-9._~!$&'()*+,;=:@%/{}-]*$/, 'a path that begins with /, with names in braces, such as /huts/{hut}/forecast');
const upstreamOperation = z.strictObject({
  name: slug,
  method: z.enum(UPSTREAM_METHODS).default('GET'),
  path,
  callers: z
    .enum(['nobody', 'anyone', 'signed-in', 'servers'])
    .default('nobody')
    .describe('Who may call it straight through; `nobody` leaves it to functions'),
  rule: z
    .string()
    .max(2000)
    .optional()
    .describe("A condition in CQL2 over the user, such as me('member') = TRUE, which callers without a server key must fulfil"),
  take: jsonObject.or(z.array(z.unknown())).optional().describe('A template of what callers get of its answer, in place of all of it'),
});
export type UpstreamOperation = z.output<typeof upstreamOperation>;

const definition = {
  address: z.url({ protocol: /^https?$/ }).describe('Where it is, with the beginning of its paths'),
  identify: identify.default({ way: 'none' }),
  trust: trust.optional(),
  timeoutMs: z.int().min(50).max(30_000).default(5_000).describe('Of a call in all, with its retries'),
  tries: z.int().min(1).max(5).default(2).describe('Of calls that may be repeated: GET, PUT and DELETE'),
  retryShare: z.number().min(0).max(1).default(0.2).describe('At most this share of calls is retried, so that retries never overload it'),
  atOnce: z.int().min(1).max(500).default(32).describe('Calls in flight on an instance; more are refused as busy'),
  breaker: z
    .strictObject({
      failingShare: z.number().min(0.05).max(1).default(0.5),
      least: z.int().min(1).max(1000).default(10).describe('Calls in ten seconds that it needs'),
      restMs: z.int().min(100).max(600_000).default(10_000).describe('How long it is left alone then'),
    })
    .prefault({})
    .describe('When most of its calls fail, it is left alone for a while'),
  cache: z.boolean().default(true).describe('Keep answers as long as they say (RFC 9111)'),
  mostBytes: z.int().min(1_000).max(50_000_000).default(1_000_000).describe('Of an answer, unpacked'),
  pass: z
    .strictObject({ request: z.array(header).max(20).default([]), answer: z.array(header).max(20).default([]) })
    .prefault({})
    .describe('Headers that pass straight through, besides those about content and caches'),
  operations: z.array(upstreamOperation).max(200).default([]),
  mode: z
    .enum(['real', 'record', 'play'])
    .default('real')
    .describe('`record` keeps each answer as well; `play` answers from what was recorded, and calls nobody'),
};
export const upstreamDefinition = z.strictObject(definition);
const put = upstreamDefinition;
export type UpstreamDefinition = z.output<typeof put>;

const check = z.object({ at: time, ok: z.boolean(), detail: z.string() });
const shown = z
  .object({
    name: z.string(),
    ...definition,
    description: z.boolean().describe('Whether there is an OpenAPI document of it'),
    recorded: z.int().describe('Answers that are recorded'),
    check: check.nullable(),
    health: z
      .object({
        state: z.enum(['well', 'failing', 'resting']),
        calls: z.int(),
        failed: z.int(),
        meanMs: z.number().nullable(),
        cached: z.int().describe('Calls that were answered from what was kept'),
        keptBytes: z.int(),
      })
      .describe('On the instance that answers, in the last ten minutes'),
    createdBy: actor,
    changedAt: time,
  })
  .meta({ id: 'Upstream' });
export type Upstream = z.output<typeof shown>;

const described = z
  .object({
    items: z.array(
      z.object({ id: z.string().nullable(), method: z.string(), path: z.string(), summary: z.string().nullable(), chosen: z.boolean() }),
    ),
  })
  .meta({ id: 'UpstreamDescription' });
const trial = z.strictObject({
  method: z.enum(UPSTREAM_METHODS).default('GET'),
  path: z.string().max(2_000).default('/'),
  query: z.record(z.string(), z.string()).default({}),
  headers: z.record(z.string(), z.string()).default({}),
  body: z.unknown().optional(),
});
const tried = z
  .object({
    status: z.int(),
    headers: z.record(z.string(), z.string()),
    body: z.unknown(),
    cached: z.boolean(),
    tries: z.int(),
    durationMs: z.number(),
  })
  .meta({ id: 'UpstreamTrial' });

const use = z
  .object({
    from: z.object({ kind: z.enum(['client', 'function', 'server']), name: z.string(), version: z.string().nullable() }),
    to: z.object({ kind: z.enum(['collection', 'function', 'upstream']), name: z.string() }),
    count: z.int(),
    lastAt: time,
  })
  .meta({ id: 'Use' });
export type Use = z.output<typeof use>;

const one = environmentParams.extend({ upstream: slug });
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const AT = `${ENVIRONMENT}/upstreams`;

export const upstreamOperations = {
  list: operation({
    id: 'upstreams.list',
    command: 'upstream list',
    method: 'GET',
    path: AT,
    summary: 'Upstreams of an environment, with their health',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(shown) }),
  }),
  read: operation({
    id: 'upstreams.read',
    command: 'upstream show',
    method: 'GET',
    path: `${AT}/{upstream}`,
    summary: 'One upstream',
    caller: viewer,
    params: one,
    reply: shown,
    problems: ['not-found'],
  }),
  put: operation({
    id: 'upstreams.put',
    changes: 'upstream',
    method: 'PUT',
    path: `${AT}/{upstream}`,
    summary: 'Add an upstream, or change where it is and how it is called',
    caller: maintainer,
    params: one,
    body: put,
    alsoStatus: 201,
    reply: shown,
    problems: ['malformed-filter', 'wrong-state'],
  }),
  remove: operation({
    id: 'upstreams.remove',
    changes: 'upstream',
    command: 'upstream remove',
    method: 'DELETE',
    path: `${AT}/{upstream}`,
    summary: 'Delete an upstream with its description and recorded answers',
    caller: maintainer,
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  check: operation({
    id: 'upstreams.check',
    changes: 'nothing',
    command: 'upstream check',
    method: 'POST',
    path: `${AT}/{upstream}/check`,
    summary: 'Reach an upstream and show it who calls, and say what is wrong',
    caller: developer,
    params: one,
    reply: check,
    problems: ['not-found'],
  }),
  try: operation({
    id: 'upstreams.try',
    changes: 'nothing',
    method: 'POST',
    path: `${AT}/{upstream}/try`,
    summary: 'Call an upstream as a function would',
    caller: developer,
    params: one,
    body: trial,
    reply: tried,
    problems: ['not-found', 'upstream-failed', 'upstream-resting'],
  }),
  describe: operation({
    id: 'upstreams.describe',
    changes: 'upstream',
    method: 'PUT',
    path: `${AT}/{upstream}/description`,
    summary: 'Give an OpenAPI 3 document of an upstream: its operations are listed, and its paths typed in functions',
    caller: developer,
    params: one,
    body: jsonObject,
    bodyLimit: 4_000_000,
    reply: described,
    problems: ['not-found'],
  }),
  description: operation({
    id: 'upstreams.description',
    command: 'upstream operations',
    method: 'GET',
    path: `${AT}/{upstream}/description`,
    summary: 'Operations of an upstream, by its OpenAPI document',
    caller: viewer,
    params: one,
    reply: described,
    problems: ['not-found'],
  }),
  forget: operation({
    id: 'upstreams.forget',
    changes: 'upstream',
    command: 'upstream forget',
    method: 'POST',
    path: `${AT}/{upstream}/forget`,
    summary: 'Forget the answers of an upstream that were recorded',
    caller: developer,
    params: one,
    reply: z.object({ forgotten: z.int() }),
    problems: ['not-found'],
  }),
  uses: operation({
    id: 'upstreams.uses',
    command: 'uses',
    method: 'GET',
    path: `${ENVIRONMENT}/uses`,
    summary: 'Which clients and functions use which collections, functions and upstreams, by what was recorded',
    caller: viewer,
    params: environmentParams,
    query: z.object({
      hours: z.coerce.number().int().min(1).max(168).default(24),
      of: z.string().max(120).optional().describe('`collection:huts`, `function:price`, `upstream:weather`: what breaks if this changes'),
    }),
    reply: z.object({ items: z.array(use) }),
  }),
};

/** Each method of an upstream's address, as apps call it. */
const through = <M extends UpstreamMethod>(method: M) =>
  operation({
    id: `upstreamCalls.${method.toLowerCase()}`,
    method,
    path: '/app/v1/upstreams/{upstream}/{path...}',
    summary: `Call an operation of an upstream with ${method}, without its credentials`,
    caller: { kind: 'app', user: 'optional', scope: 'upstreams:call' },
    params: z.object({ upstream: slug, path: z.string().max(2_000) }),
    query: z.looseObject({}),
    ...(method === 'GET' || method === 'DELETE' ? {} : { body: z.unknown() }),
    reply: z.unknown(),
    anyStatus: true,
    problems: ['not-found', 'method-not-allowed', 'access-refused', 'upstream-failed', 'upstream-resting'],
  });
export const upstreamCallOperations = {
  get: through('GET'),
  post: through('POST'),
  put: through('PUT'),
  patch: through('PATCH'),
  delete: through('DELETE'),
};
