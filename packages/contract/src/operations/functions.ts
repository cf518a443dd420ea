/** Functions: the team's own code, run in a sandbox; so far endpoints, which answer calls of apps. */
import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, jsonObject, listQuery, nothing, operation, page, slug, time, uuid } from '../common.js';

export const FUNCTION_KINDS = ['endpoint'] as const;
export const ENDPOINT_METHODS = ['GET', 'POST', 'PUT', 'PATCH', 'DELETE'] as const;
export const ENDPOINT_CALLERS = ['anyone', 'signed-in', 'servers'] as const;
const MOST_CHARS = 200_000;

const fileName = z
  .string()
  .regex(/^[A-Za-z0-9_-]+(\/[A-Za-z0-9_-]+){0,4}\.(ts|js)$/, 'A path such as main.ts or lib/prices.ts, of letters, digits, - and _.');
const source = z.string().max(MOST_CHARS);
const path = z
  .string()
  .max(200)
  .regex(
    /^[a-z0-9_-]+(\/([a-z0-9_-]+|\{[a-z][A-Za-z0-9]*\}))*$/,
    'Such as huts/{hut}/price: small letters, digits, - and _, and names in braces.',
  );
const definition = {
  kind: z.enum(FUNCTION_KINDS),
  path: path.describe('Where it answers, below /app/v1/endpoints/'),
  methods: z.array(z.enum(ENDPOINT_METHODS)).min(1).max(5).default(['GET']),
  callers: z
    .enum(ENDPOINT_CALLERS)
    .default('signed-in')
    .describe('`signed-in`: signed-in users and server keys; `anyone`: every client key as well; `servers`: server keys alone'),
  rights: z
    .enum(['caller', 'own'])
    .default('caller')
    .describe('Whose rights its reads and writes have: those of whoever calls it, or rights of its own, to which no rules apply'),
  hosts: z.array(z.string().max(253)).max(20).default([]).describe('Hosts that it may fetch from, over https'),
};
const newVersion = z.strictObject({
  ...definition,
  source: source.optional().describe('Its only file, main.ts'),
  files: z.record(fileName, source).optional().describe('Several files; the default export of main.ts or main.js is its handler'),
  use: z.boolean().default(true).describe('Put it in force at once'),
});
export type NewFunctionVersion = z.output<typeof newVersion>;

const shown = z
  .object({
    name: z.string(),
    ...definition,
    version: z.int().describe('The version in force; 0 for none'),
    versions: z.int(),
    createdAt: time,
    changedAt: time,
    runs: z.object({ count: z.int(), failed: z.int(), meanMs: z.number().nullable() }).describe('In the last 24 hours'),
  })
  .meta({ id: 'Function' });
export type FunctionShown = z.output<typeof shown>;
const version = z
  .object({ version: z.int(), files: z.record(z.string(), z.string()), createdBy: actor, createdAt: time, inForce: z.boolean() })
  .meta({ id: 'FunctionVersion' });
export type FunctionVersion = z.output<typeof version>;

export const RUN_OUTCOMES = ['answered', 'refused', 'failed', 'stopped'] as const;
const logLine = z.object({ level: z.enum(['info', 'warn', 'error']), text: z.string() });
const madeCall = z.object({ name: z.string(), about: z.string(), ms: z.number(), ok: z.boolean() });
const run = z
  .object({
    id: uuid.describe('Of the call that it answered'),
    version: z.int(),
    at: time,
    durationMs: z.number(),
    cpuMs: z.number(),
    outcome: z.enum(RUN_OUTCOMES),
    status: z.int().nullable(),
    error: z.string().nullable(),
    log: z.array(logLine),
    calls: z.array(madeCall).describe('What it called of what it can reach'),
    userId: z.string().nullable(),
  })
  .meta({ id: 'FunctionRun' });
export type FunctionRun = z.output<typeof run>;

const request = z.strictObject({
  method: z.enum(ENDPOINT_METHODS).default('GET'),
  params: z.record(z.string(), z.string()).default({}),
  query: z.record(z.string(), z.string()).default({}),
  body: z.unknown().optional(),
});
const trial = z.strictObject({
  request: request.prefault({}),
  user: uuid.nullable().optional().describe('As this user; as a server, if left out'),
  source: source.optional(),
  files: z.record(fileName, source).optional().describe('A draft in place of the version in force'),
});
const tried = z
  .object({
    outcome: z.enum(RUN_OUTCOMES),
    answer: z.unknown().describe('The response it would have given'),
    error: z.string().nullable(),
    durationMs: z.number(),
    cpuMs: z.number(),
    log: z.array(logLine),
    calls: z.array(madeCall),
    changes: z.array(jsonObject).describe('What it would have written; nothing was'),
  })
  .meta({ id: 'FunctionTrial' });

const one = environmentParams.extend({ name: slug });
const oneSecret = environmentParams.extend({ secret: slug });
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const AT = `${ENVIRONMENT}/functions`;
const secretShown = z.object({ name: z.string(), changedBy: actor, changedAt: time });

export const functionOperations = {
  list: operation({
    id: 'functions.list',
    command: 'function list',
    method: 'GET',
    path: AT,
    summary: 'Functions of an environment, with their runs of the last day',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(shown) }),
  }),
  read: operation({
    id: 'functions.read',
    command: 'function show',
    method: 'GET',
    path: `${AT}/{name}`,
    summary: 'One function',
    caller: viewer,
    params: one,
    reply: shown,
    problems: ['not-found'],
  }),
  put: operation({
    id: 'functions.put',
    changes: 'function',
    method: 'PUT',
    path: `${AT}/{name}`,
    summary: 'Save a version of a function; it is checked first, and in force at once',
    caller: developer,
    params: one,
    body: newVersion,
    bodyLimit: 2_000_000,
    alsoStatus: 201,
    reply: shown,
    problems: ['function-refused', 'already-exists', 'wrong-state'],
  }),
  remove: operation({
    id: 'functions.remove',
    changes: 'function',
    command: 'function remove',
    method: 'DELETE',
    path: `${AT}/{name}`,
    summary: 'Delete a function with its versions and runs',
    caller: developer,
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  versions: operation({
    id: 'functions.versions',
    command: 'function versions',
    method: 'GET',
    path: `${AT}/{name}/versions`,
    summary: 'Versions of a function, latest first',
    caller: viewer,
    params: one,
    reply: z.object({ items: z.array(version) }),
    problems: ['not-found'],
  }),
  use: operation({
    id: 'functions.use',
    changes: 'function',
    command: 'function use <version>',
    method: 'POST',
    path: `${AT}/{name}/use`,
    summary: 'Put a version in force, also an earlier one',
    caller: developer,
    params: one,
    body: z.strictObject({ version: z.int().min(0).describe('0 puts none in force') }),
    reply: shown,
    problems: ['not-found'],
  }),
  try: operation({
    id: 'functions.try',
    changes: 'nothing',
    method: 'POST',
    path: `${AT}/{name}/try`,
    summary: 'Run a function or a draft on a made-up request; what it writes is shown and undone',
    caller: developer,
    params: one,
    body: trial,
    bodyLimit: 2_000_000,
    reply: tried,
    problems: ['not-found', 'function-refused'],
  }),
  runs: operation({
    id: 'functions.runs',
    command: 'function runs',
    method: 'GET',
    path: `${AT}/{name}/runs`,
    summary: 'Runs of the last seven days, latest first, with their log and calls',
    caller: viewer,
    params: one,
    query: listQuery,
    reply: page(run),
    problems: ['not-found'],
  }),
  secrets: operation({
    id: 'functions.secrets',
    command: 'secret list',
    method: 'GET',
    path: `${ENVIRONMENT}/secrets`,
    summary: 'Names of secrets; their values are never shown',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(secretShown) }),
  }),
  putSecret: operation({
    id: 'functions.putSecret',
    changes: 'secret',
    method: 'PUT',
    path: `${ENVIRONMENT}/secrets/{secret}`,
    summary: 'Set a secret that functions may read',
    caller: maintainer,
    params: oneSecret,
    body: z.strictObject({ value: z.string().min(1).max(20_000) }),
    reply: secretShown,
    problems: ['wrong-state'],
  }),
  removeSecret: operation({
    id: 'functions.removeSecret',
    changes: 'secret',
    command: 'secret remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/secrets/{secret}`,
    summary: 'Delete a secret',
    caller: maintainer,
    params: oneSecret,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};

/** An endpoint answers each of its methods at one address. */
const answering = <M extends (typeof ENDPOINT_METHODS)[number]>(method: M) =>
  operation({
    id: `endpoints.${method.toLowerCase()}`,
    method,
    path: '/app/v1/endpoints/{path...}',
    summary: `Call an endpoint of the team with ${method}`,
    caller: { kind: 'app', user: 'optional', scope: 'functions:call' },
    params: z.object({ path: z.string().max(1000) }),
    query: z.looseObject({}),
    ...(method === 'GET' || method === 'DELETE' ? {} : { body: z.unknown() }),
    reply: z.unknown(),
    anyStatus: true,
    problems: ['not-found', 'method-not-allowed', 'access-refused', 'function-failed', 'function-stopped'],
  });
export const endpointOperations = {
  get: answering('GET'),
  post: answering('POST'),
  put: answering('PUT'),
  patch: answering('PATCH'),
  delete: answering('DELETE'),
};
