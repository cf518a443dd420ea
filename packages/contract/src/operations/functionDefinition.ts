/** What a function is: where it stands, its versions, and its runs. */
import { z } from 'zod';
import { actor, jsonObject, time, uuid } from '../common.js';

export const FUNCTION_KINDS = ['endpoint', 'hook', 'schedule'] as const;
export const ENDPOINT_METHODS = ['GET', 'POST', 'PUT', 'PATCH', 'DELETE'] as const;
export const ENDPOINT_CALLERS = ['anyone', 'signed-in', 'servers'] as const;
const MOST_CHARS = 200_000;

export const fileName = z
  .string()
  .regex(
    /^(combine\.json|[A-Za-z0-9_-]+(\/[A-Za-z0-9_-]+){0,4}(\.test)?\.(ts|js))$/,
    'A path such as main.ts or lib/prices.ts, of letters, digits, - and _.',
  );
export const source = z.string().max(MOST_CHARS);
const path = z
  .string()
  .max(200)
  .regex(
    /^[a-z0-9_-]+(\/([a-z0-9_-]+|\{[a-z][A-Za-z0-9]*\}))*$/,
    'Such as huts/{hut}/price: small letters, digits, - and _, and names in braces.',
  );
/** When a hook runs: before an action, which it may change or refuse; after it; or on an answer, which it may reshape. */
export const HOOK_MOMENTS = ['before', 'after', 'answer'] as const;
/** What hooks stand on besides the records of collections. */
export const HOOK_SUBJECTS = ['files', 'users', 'devices', 'notifications', 'events'] as const;
export const HOOK_ACTIONS = ['create', 'read', 'list', 'update', 'delete'] as const;
export type HookAction = (typeof HOOK_ACTIONS)[number];
export const MISSED_RUNS = ['once', 'each', 'skip'] as const;

const hookOn = z
  .strictObject({
    moment: z.enum(HOOK_MOMENTS).describe('`answer` reshapes what a read or a list answers; it is for these alone'),
    actions: z.array(z.enum(HOOK_ACTIONS)).min(1).max(5),
    collection: z.string().max(63).optional().describe('Whose records'),
    subject: z.enum(HOOK_SUBJECTS).optional().describe('In place of a collection'),
  })
  .superRefine(({ moment, actions, collection, subject }, context) => {
    const refuse = (path: string, message: string) => context.addIssue({ code: 'custom', path: [path], message });
    if ((collection === undefined) === (subject === undefined))
      refuse('collection', 'the name of a collection, or left out for a subject: one of them');
    const reads = actions.filter((action) => action === 'read' || action === 'list');
    if (moment === 'after' && reads.length > 0)
      refuse('actions', 'create, update or delete: nothing follows a read, on which hooks stand `before` or on its `answer`');
    if (moment === 'answer' && reads.length < actions.length) refuse('actions', 'read or list: only their answers can be reshaped');
    const possible = subject && SUBJECT_ACTIONS[subject];
    const other = possible && actions.find((action) => !possible.includes(action));
    if (other) refuse('actions', `among those of ${subject}: ${possible.join(', ')}`);
  });
export type HookOn = z.output<typeof hookOn>;
const SUBJECT_ACTIONS: Record<(typeof HOOK_SUBJECTS)[number], readonly HookAction[]> = {
  files: HOOK_ACTIONS,
  users: ['create', 'update', 'delete'],
  devices: ['create', 'delete'],
  notifications: ['create'],
  events: ['create'],
};

export const functionShape = {
  kind: z.enum(FUNCTION_KINDS),
  path: path.optional().describe('Of an endpoint: where it answers, below /app/v1/endpoints/; its name, if left out'),
  methods: z.array(z.enum(ENDPOINT_METHODS)).min(1).max(5).optional().describe('Of an endpoint; GET, if left out'),
  callers: z
    .enum(ENDPOINT_CALLERS)
    .optional()
    .describe(
      'Of an endpoint. `signed-in`, the default: signed-in users and server keys; `anyone`: every client key as well; `servers`: server keys alone',
    ),
  input: jsonObject.optional().describe('Of an endpoint: a JSON Schema that bodies of calls must follow'),
  output: jsonObject.optional().describe('Of an endpoint: a JSON Schema of the body it answers'),
  on: hookOn.optional().describe('Of a hook: what it stands on'),
  clock: z.string().max(100).optional().describe('Of a schedule: a cron expression, such as 0 6 * * 1-5'),
  zone: z.string().max(64).optional().describe('Of a schedule: the time zone of its clock; UTC, if left out'),
  missed: z
    .enum(MISSED_RUNS)
    .optional()
    .describe('Of a schedule, for times at which no instance was up: run `once`, the default, run for `each`, or `skip`'),
  rights: z
    .enum(['caller', 'own'])
    .default('caller')
    .describe('Whose rights its reads and writes have: those of whoever calls it, or rights of its own, to which no rules apply'),
  hosts: z.array(z.string().max(253)).max(20).default([]).describe('Hosts that it may fetch from, over https'),
};
/** The members that belong to one kind alone. */
const OF_KIND: Record<string, (typeof FUNCTION_KINDS)[number]> = {
  path: 'endpoint',
  methods: 'endpoint',
  callers: 'endpoint',
  input: 'endpoint',
  output: 'endpoint',
  on: 'hook',
  clock: 'schedule',
  zone: 'schedule',
  missed: 'schedule',
};
export const newVersion = z
  .strictObject({
    ...functionShape,
    source: source.optional().describe('Its only file, main.ts'),
    files: z
      .record(fileName, source)
      .optional()
      .describe(
        'Several files; the default export of main.ts or main.js is its handler. Or `combine.json` alone: an endpoint without code',
      ),
    use: z.boolean().default(true).describe('Put it in force at once'),
  })
  .superRefine((body, context) => {
    const refuse = (path: string, message: string) => context.addIssue({ code: 'custom', path: [path], message });
    for (const [name, kind] of Object.entries(OF_KIND))
      if ((body as Record<string, unknown>)[name] !== undefined && kind !== body.kind)
        refuse(name, `left out: it belongs to the kind ${kind}`);
    if (body.kind === 'hook' && !body.on) refuse('on', 'there: a hook says what it stands on');
    if (body.kind === 'schedule' && !body.clock) refuse('clock', 'there: a schedule has a cron expression');
  });
export type NewFunctionVersion = z.output<typeof newVersion>;

const part = z
  .object({
    version: z.int().min(1),
    users: z.array(uuid).max(100).describe('Users for whom it holds'),
    share: z.number().min(0).max(1).describe('The share of other calls for which it holds: of users, always the same ones'),
  })
  .meta({ id: 'FunctionPart' });
export type VersionPart = z.output<typeof part>;
export const shown = z
  .object({
    name: z.string(),
    ...functionShape,
    part: part.nullable().describe('A version that holds for some already, beside the one in force'),
    version: z.int().describe('The version in force; 0 for none'),
    versions: z.int(),
    createdAt: time,
    changedAt: time,
    nextAt: time.nullable().describe('Of a schedule: when it runs next'),
    lastAt: time.nullable().describe('Its latest run'),
    lastOutcome: z.string().nullable(),
    waiting: z.int().describe('Calls of it that are to be run, or to be retried'),
    runs: z.object({ count: z.int(), failed: z.int(), meanMs: z.number().nullable() }).describe('In the last 24 hours'),
  })
  .meta({ id: 'Function' });
export type FunctionShown = z.output<typeof shown>;
export const version = z
  .object({ version: z.int(), files: z.record(z.string(), z.string()), createdBy: actor, createdAt: time, inForce: z.boolean() })
  .meta({ id: 'FunctionVersion' });
export type FunctionVersion = z.output<typeof version>;

export const RUN_OUTCOMES = ['answered', 'refused', 'failed', 'stopped'] as const;
export const logLine = z.object({ level: z.enum(['info', 'warn', 'error']), text: z.string() });
export const madeCall = z.object({ name: z.string(), about: z.string(), ms: z.number(), ok: z.boolean() });
export const run = z
  .object({
    id: uuid.describe('Of an endpoint: the id of the call that it answered'),
    version: z.int(),
    cause: z.string().describe('What it ran for: a call, an action or a time'),
    request: uuid.nullable().describe('The recorded call that led to it'),
    trace: z.string().nullable(),
    attempt: z.int().describe('Of a hook after an action, or a schedule: how often it was tried for this'),
    key: z.string().nullable().describe('The same for all attempts: a key for idempotency'),
    at: time,
    durationMs: z.number(),
    cpuMs: z.number(),
    memoryKb: z
      .int()
      .nullable()
      .describe('Of runs that answered: in one of sixteen, and in each that used the processor for more than 5 ms'),
    event: jsonObject.nullable().describe('What it ran for, where it can be run again or was refused or failed: for a trial'),
    outcome: z.enum(RUN_OUTCOMES),
    status: z.int().nullable(),
    error: z.string().nullable(),
    log: z.array(logLine),
    calls: z.array(madeCall).describe('What it called of what it can reach'),
    userId: z.string().nullable(),
  })
  .meta({ id: 'FunctionRun' });
export type FunctionRun = z.output<typeof run>;
