import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, listQuery, nothing, operation, page, time } from '../common.js';

export const requestSummary = z.object({
  id: z.string(),
  at: time,
  method: z.string(),
  direction: z.enum(['in', 'out']).describe('`out`: from the service to an outside system'),
  route: z.string().describe('The operation’s path, with its parameters’ names; of an outgoing call, the gateway'),
  path: z.string().describe('What was called, with its query; of an outgoing call, the whole address'),
  status: z.int().describe('0: no response came'),
  durationMs: z.number(),
  databaseMs: z.number(),
  client: z.string().nullable(),
  userId: z.string().nullable(),
  deviceId: z.string().nullable(),
  trace: z.string().describe('The trace id of W3C Trace Context'),
  problem: z.string().nullable().describe('Name of the problem answered'),
  target: z.string().nullable().describe('The collection or channel that the route names'),
  version: z.string().nullable().describe('Of the app, by its user agent'),
  keptOf: z.int().describe('For how many calls like it this one stands: beyond a number a minute, one in twenty is kept'),
});
export type RequestSummary = z.infer<typeof requestSummary>;

const sides = <T extends z.ZodType>(side: T) => z.object({ request: side, response: side });

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
    timeline: z
      .array(
        z.object({
          step: z.string(),
          startUs: z.number().describe('From the start of the call, microseconds'),
          durationUs: z.number(),
          detail: z.string().optional().describe('Of a statement: what it does to which table'),
        }),
      )
      .describe('Where its time went, by step'),
    headers: sides(z.record(z.string(), z.string())).nullable().describe('Credentials are masked'),
    bodies: sides(z.string().nullable()).nullable().describe('Of refused and failed calls, where the environment keeps them'),
  })
  .meta({ id: 'Request' });
export type RequestDetail = z.infer<typeof requestDetail>;

/** How many days of each are kept. Hours are summed from minutes and days from hours, so each is kept at least as long as the one before. */
const keptDays = z.strictObject({
  requests: z.int().min(1).max(400).nullable().describe('Null: as the installation is set'),
  minutes: z.int().min(2).max(400),
  hours: z.int().min(2).max(800),
  days: z.int().min(30).max(4_000),
});
export type KeptDays = z.infer<typeof keptDays>;

export const recording = z
  .object({
    headers: z.boolean().describe('Keep headers and timelines'),
    bodies: z.boolean().describe('Keep the bodies of refused and failed calls, up to 8 kB'),
    maskedFields: z.array(z.string().max(63)).max(100).describe('Fields whose values are masked in them, besides those of secrets'),
    keptDays: keptDays.describe('How many days requests, and counts by minute, hour and day are kept'),
  })
  .meta({ id: 'Recording' });
export type Recording = z.infer<typeof recording>;

const problemCount = z.object({
  problem: z.string(),
  title: z.string(),
  calls: z.int(),
  failed: z.boolean().describe('Whether it counts as failed: a 5xx'),
  before: z.int().describe('In the period before of the same length'),
  isNew: z.boolean().describe('Whether it was first seen in this period'),
  routes: z.array(z.object({ method: z.string(), route: z.string(), calls: z.int() })).describe('Most calls first'),
});
export type ProblemCount = z.infer<typeof problemCount>;

const savedSearch = z.object({
  id: z.string(),
  list: z.enum(['requests', 'log']),
  name: z.string(),
  query: z.string().describe('The state of the list as the query of its page'),
  by: actor,
  at: time,
});
export type SavedSearch = z.infer<typeof savedSearch>;

const searched = listQuery.extend({
  text: z.string().max(200).optional().describe('Free text in path, problem and detail, in any case'),
});

const range = z.strictObject({
  from: time.optional().describe('Default: 24 hours before `until`'),
  until: time.optional().describe('Default: now'),
});

const latency = { p50Ms: z.number().nullable(), p95Ms: z.number().nullable(), p99Ms: z.number().nullable() };
const sum = { calls: z.int(), clientErrors: z.int(), serverErrors: z.int(), ...latency };
const timeSteps = z.array(z.object({ at: time, ...sum }));
export const USAGE_SPLITS = ['client', 'feature', 'status', 'version', 'country'] as const;
export type UsageSplit = (typeof USAGE_SPLITS)[number];
const usagePart = z.object({
  name: z.string().nullable().describe('Null: calls that do not tell theirs'),
  others: z.boolean().describe('Whether it is the sum of all that are too small for a line of their own'),
  ...sum,
  steps: timeSteps,
});
export const usage = z
  .object({
    from: time,
    until: time,
    stepMs: z.int(),
    total: z.object(sum),
    steps: timeSteps,
    routes: z
      .array(
        z.object({
          method: z.string(),
          route: z.string(),
          target: z.string().nullable().describe('The collection or channel: one line for all of them would hide the slow one'),
          ...sum,
          statuses: z.record(z.string(), z.int()),
          beforeP95Ms: z.number().nullable().optional().describe('p95 in the period before, with `compare`'),
        }),
      )
      .describe('Most calls first'),
    parts: z.array(usagePart).optional().describe('With `by`: the same calls by what made them or how they ended, most first'),
    previous: z
      .object({ from: time, until: time, total: z.object(sum), steps: timeSteps })
      .optional()
      .describe('The period before, of the same length, with `compare=previous`'),
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
    query: range.extend({
      client: z.string().max(40).optional(),
      route: z.string().max(200).optional(),
      target: z.string().max(64).optional().describe('Only this collection or channel'),
      by: z
        .enum(USAGE_SPLITS)
        .optional()
        .describe(
          'Also told apart by client, by what of the backend is used (`feature`), status, the app’s version, or the country that the device reported; the last two for all routes together',
        ),
      compare: z.enum(['previous']).optional().describe('`previous`: the period before, too'),
    }),
    reply: usage,
    problems: ['invalid-input'],
  }),
  requests: operation({
    id: 'requests.list',
    command: 'request list',
    method: 'GET',
    path: `${ENVIRONMENT}/requests`,
    summary: 'Recorded requests, latest first',
    caller: viewer,
    params: environmentParams,
    query: searched,
    reply: page(requestSummary),
  }),
  installationRequests: operation({
    id: 'requests.listInstallation',
    method: 'GET',
    path: '/manage/v1/requests',
    summary: 'Recorded requests that belong to no environment: members’ calls, and calls with a key that is not known',
    caller: { kind: 'member', role: 'owner' },
    query: searched,
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
  har: operation({
    id: 'requests.har',
    command: 'request har',
    method: 'GET',
    path: `${ENVIRONMENT}/requests/har`,
    summary: 'Recorded requests as HAR 1.2: one, or a selection',
    caller: viewer,
    params: environmentParams,
    query: searched.omit({ cursor: true }).extend({ limit: z.coerce.number().int().min(1).max(500).default(100) }),
    reply: z.string(),
    replyTypes: ['application/json'],
    problems: ['malformed-filter'],
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
  problems: operation({
    id: 'problems.list',
    command: 'problem list',
    method: 'GET',
    path: `${ENVIRONMENT}/problems`,
    summary: 'Refused and failed calls of a period by problem, with change against the period before',
    caller: viewer,
    params: environmentParams,
    query: range,
    reply: z.object({ from: time, until: time, items: z.array(problemCount) }),
  }),
  recording: operation({
    id: 'recording.read',
    command: 'request recording',
    method: 'GET',
    path: `${ENVIRONMENT}/recording`,
    summary: 'What is kept of calls beyond their counts',
    caller: viewer,
    params: environmentParams,
    reply: recording,
  }),
  changeRecording: operation({
    id: 'recording.change',
    command: 'request record',
    changes: 'recording',
    method: 'PATCH',
    path: `${ENVIRONMENT}/recording`,
    summary: 'Change what is kept of calls beyond their counts',
    caller: { kind: 'member', role: 'maintainer' },
    params: environmentParams,
    body: z.strictObject({
      headers: z.boolean().optional(),
      bodies: z.boolean().optional(),
      maskedFields: z.array(z.string().max(63)).max(100).optional(),
      keptDays: keptDays.partial().optional(),
    }),
    reply: recording,
  }),
  searches: operation({
    id: 'searches.list',
    command: 'search list',
    method: 'GET',
    path: `${ENVIRONMENT}/searches`,
    summary: 'Saved searches of requests and log entries',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(savedSearch) }),
  }),
  saveSearch: operation({
    id: 'searches.save',
    changes: 'search',
    method: 'POST',
    path: `${ENVIRONMENT}/searches`,
    summary: 'Save a search for the team; one of the same name is replaced',
    caller: { kind: 'member', role: 'developer' },
    params: environmentParams,
    body: z.strictObject({ list: z.enum(['requests', 'log']), name: z.string().trim().min(1).max(60), query: z.string().max(4000) }),
    status: 201,
    reply: savedSearch,
  }),
  removeSearch: operation({
    id: 'searches.remove',
    command: 'search remove',
    changes: 'search',
    method: 'DELETE',
    path: `${ENVIRONMENT}/searches/{search}`,
    summary: 'Remove a saved search',
    caller: { kind: 'member', role: 'developer' },
    params: environmentParams.extend({ search: z.string().max(64) }),
    status: 204,
    reply: nothing,
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
