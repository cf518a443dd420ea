import { z } from 'zod';
import { ENVIRONMENT, environmentParams, listQuery, operation, page, time } from '../common.js';

export const requestSummary = z.object({
  id: z.string(),
  at: time,
  method: z.string(),
  route: z.string().describe('The operation’s path, with its parameters’ names'),
  path: z.string().describe('What was called, with its query'),
  status: z.int(),
  durationMs: z.number(),
  databaseMs: z.number(),
  client: z.string().nullable(),
  userId: z.string().nullable(),
  deviceId: z.string().nullable(),
  trace: z.string().describe('The trace id of W3C Trace Context'),
  problem: z.string().nullable().describe('Name of the problem answered'),
});
export type RequestSummary = z.infer<typeof requestSummary>;

export const requestDetail = requestSummary
  .extend({
    parentSpan: z.string().nullable(),
    span: z.string(),
    statements: z.int().describe('Statements sent to the database'),
    bytesIn: z.int(),
    bytesOut: z.int(),
    origin: z.string().nullable(),
    userAgent: z.string().nullable(),
    detail: z.string().nullable().describe('The detail text of the problem'),
    key: z.string().nullable().describe('Id of the key'),
  })
  .meta({ id: 'Request' });
export type RequestDetail = z.infer<typeof requestDetail>;

const range = z.strictObject({
  from: time.optional().describe('Default: 24 hours before `until`'),
  until: time.optional().describe('Default: now'),
});

const latency = { p50Ms: z.number().nullable(), p95Ms: z.number().nullable(), p99Ms: z.number().nullable() };
export const usage = z
  .object({
    from: time,
    until: time,
    stepMs: z.int(),
    total: z.object({ calls: z.int(), clientErrors: z.int(), serverErrors: z.int(), ...latency }),
    steps: z.array(z.object({ at: time, calls: z.int(), clientErrors: z.int(), serverErrors: z.int(), ...latency })),
    routes: z.array(
      z.object({
        method: z.string(),
        route: z.string(),
        calls: z.int(),
        clientErrors: z.int(),
        serverErrors: z.int(),
        ...latency,
        statuses: z.record(z.string(), z.int()),
      }),
    ),
  })
  .meta({ id: 'Usage' });
export type Usage = z.infer<typeof usage>;

const viewer = { kind: 'member', role: 'viewer' } as const;

export const telemetryOperations = {
  usage: operation({
    id: 'usage.read',
    command: 'usage',
    method: 'GET',
    path: `${ENVIRONMENT}/usage`,
    summary: 'Calls, errors and latency over time and by route',
    caller: viewer,
    params: environmentParams,
    query: range.extend({ client: z.string().max(40).optional(), route: z.string().max(200).optional() }),
    reply: usage,
  }),
  requests: operation({
    id: 'requests.list',
    command: 'request list',
    method: 'GET',
    path: `${ENVIRONMENT}/requests`,
    summary: 'Recorded requests, latest first',
    caller: viewer,
    params: environmentParams,
    query: listQuery,
    reply: page(requestSummary),
  }),
  installationRequests: operation({
    id: 'requests.listInstallation',
    method: 'GET',
    path: '/manage/v1/requests',
    summary: 'Recorded requests that belong to no environment: members’ calls, and calls with a key that is not known',
    caller: { kind: 'member', role: 'owner' },
    query: listQuery,
    reply: page(requestSummary),
  }),
  installationRequest: operation({
    id: 'requests.readInstallation',
    method: 'GET',
    path: '/manage/v1/requests/{request}',
    summary: 'One request that belongs to no environment, in full',
    caller: { kind: 'member', role: 'owner' },
    params: z.object({ request: z.string().max(64) }),
    reply: requestDetail,
    problems: ['not-found'],
  }),
  request: operation({
    id: 'requests.read',
    command: 'request show',
    method: 'GET',
    path: `${ENVIRONMENT}/requests/{request}`,
    summary: 'One recorded request in full',
    caller: viewer,
    params: environmentParams.extend({ request: z.string().max(64) }),
    reply: requestDetail,
    problems: ['not-found'],
  }),
  changes: operation({
    id: 'changes.watch',
    method: 'GET',
    path: `${ENVIRONMENT}/changes`,
    summary: 'Event stream of the kinds of things that changed in an environment',
    caller: viewer,
    params: environmentParams,
    stream: true,
    reply: z
      .object({ records: z.int(), deliveries: z.int(), requests: z.int(), devices: z.int() })
      .describe('Marks that move when something of the kind changes'),
  }),
};
