import { CONDITIONS } from '@orchard/core/words';
import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, operation, slug, time } from '../common.js';

const text = (most: number) => z.string().min(1).max(most);

const subject = z
  .discriminatedUnion('of', [
    z.strictObject({ of: z.literal('calls') }),
    z.strictObject({ of: z.literal('client'), name: text(40) }),
    z.strictObject({
      of: z.literal('route'),
      method: text(7),
      route: text(120).describe('As the document of the API writes it, such as `/app/v1/data/{collection}`'),
      target: text(64).optional().describe('Only this collection or channel'),
    }),
    z.strictObject({ of: z.literal('gateway'), name: text(40).optional().describe('Without it, all gateways together') }),
    z.strictObject({ of: z.literal('jobs'), kind: text(60).optional().describe('Without it, all kinds together') }),
    z.strictObject({ of: z.literal('function'), name: text(40).optional().describe('Without it, all functions together') }),
  ])
  .describe('What it speaks of');

const measure = z
  .discriminatedUnion('of', [
    z.strictObject({ of: z.literal('latency'), statistic: z.enum(['mean', 'p50', 'p95', 'p99']) }),
    z.strictObject({ of: z.literal('within'), ms: z.number() }),
    z.strictObject({ of: z.literal('failed'), as: z.enum(['share', 'count']) }),
    z.strictObject({ of: z.literal('refused') }),
    z.strictObject({ of: z.literal('delivered') }),
    z.strictObject({ of: z.literal('backlog') }),
  ])
  .describe(
    'Durations are milliseconds, shares from 0 to 1. `failed` counts calls answered with a 5xx or not at all, `refused` those answered with a 4xx, `backlog` is the age of the oldest job that is due',
  );

/** The numbers are checked together, by the service: a limit depends on the measure. */
export const objective = z
  .strictObject({
    name: slug,
    title: text(120).optional().describe('For people; without it, pages say what it measures'),
    subject,
    measure,
    windowMs: z.number().describe('From a minute to 30 days'),
    stressed: z.number().describe('Beyond this, the environment is stressed'),
    failing: z.number().describe('Beyond this, it is failing'),
    leastCalls: z.number().default(10).describe('With fewer calls in the window nothing is said'),
    leaveOut: z.array(text(40)).max(40).default([]).describe('Problems that are no trouble here, by name'),
  })
  .meta({ id: 'Objective' });
export type Objective = z.infer<typeof objective>;

const condition = z.enum(CONDITIONS);
const finding = objective.extend({
  condition,
  value: z.number().nullable().describe('Measured in the window; null where nothing can be said'),
  calls: z.int().describe('In the window'),
  nearness: z.number().nullable().describe('How near the value is to the next limit: 1 is at it, more is past `failing`'),
  budget: z
    .object({
      allowed: z.number().describe('Share of all that may go wrong in the window'),
      bad: z.number(),
      total: z.int(),
      spent: z.number().describe('1 is all of it'),
      fast: z.number().nullable().describe('How many times faster than allowed it was spent in the last hour'),
      slow: z.number().nullable().describe('The same in the last six hours'),
    })
    .nullable()
    .describe('Of objectives of 7 days and more whose measure is a share'),
});
export type Finding = z.infer<typeof finding>;

const recent = z.array(z.object({ at: time, calls: z.int(), failed: z.int(), refused: z.int(), p95Ms: z.number().nullable() }));
const environmentCondition = z
  .object({
    app: z.string(),
    environment: z.string(),
    condition,
    since: time,
    evaluatedAt: time.nullable().describe('Null before the first evaluation'),
    stepMs: z.int().describe('Length of a cell of `recent`'),
    recent,
    version: z.int().describe('Of the objectives that were in force'),
    objectives: z.array(finding),
  })
  .meta({ id: 'EnvironmentCondition' });
export type EnvironmentConditionDocument = z.infer<typeof environmentCondition>;

export const INSTALLATION_CHECKS = ['database', 'disk', 'jobs', 'certificates'] as const;
const installation = z.object({
  condition,
  since: time,
  checks: z.array(
    z.object({
      check: z.enum(INSTALLATION_CHECKS),
      condition,
      text: z.string().describe('What was found, in a sentence'),
    }),
  ),
});
export type InstallationCondition = z.infer<typeof installation>;

const change = z.object({
  at: time,
  condition,
  objective: z.string().nullable().describe('The worst objective at that time'),
  value: z.number().nullable(),
  text: z.string().nullable(),
});
export type ConditionChange = z.infer<typeof change>;

const set = z
  .object({
    items: z.array(objective),
    version: z.int(),
    at: time,
    by: actor.describe('Who stored this version'),
    why: z.string().nullable(),
  })
  .meta({ id: 'ObjectiveSet' });
export type ObjectiveSet = z.infer<typeof set>;

const wanted = z.strictObject({
  items: z.array(objective).max(100),
  why: text(500).optional().describe('Why they are changed; kept with the version'),
  version: z.int().optional().describe('The version this was made from; refused when another is in force by now'),
});
const range = z.strictObject({
  from: time.optional().describe('Default: 24 hours before `until`'),
  until: time.optional().describe('Default: now'),
});
const viewer = { kind: 'member', role: 'viewer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;

const trialLine = z.array(z.object({ at: time, condition, value: z.number().nullable() }));

export const conditionOperations = {
  read: operation({
    id: 'condition.read',
    command: 'condition show',
    method: 'GET',
    path: '/manage/v1/condition',
    summary: 'How well each environment is, with its last five minutes and its objectives',
    caller: viewer,
    query: z.strictObject({ at: time.optional().describe('As it was at this time') }),
    reply: z.object({
      items: z.array(environmentCondition),
      installation: installation.nullable().describe('Of the installation itself; null in the past, and for members who are no owner'),
      evaluatedAt: time.nullable().describe('When the latest evaluation ended'),
    }),
  }),
  history: operation({
    id: 'condition.history',
    command: 'condition history',
    method: 'GET',
    path: '/manage/v1/condition/history',
    summary: 'Changes of condition in a period, by environment',
    caller: viewer,
    query: range,
    reply: z.object({
      from: time,
      until: time,
      items: z.array(
        z.object({
          app: z.string(),
          environment: z.string(),
          before: condition.describe('When the period began'),
          changes: z.array(change),
        }),
      ),
    }),
  }),
};

export const objectiveOperations = {
  read: operation({
    id: 'objectives.read',
    command: 'objective list',
    method: 'GET',
    path: `${ENVIRONMENT}/objectives`,
    summary: 'The objectives in force',
    caller: viewer,
    params: environmentParams,
    reply: set,
  }),
  replace: operation({
    id: 'objectives.replace',
    changes: 'objectives',
    command: 'objective set <json>',
    method: 'PUT',
    path: `${ENVIRONMENT}/objectives`,
    summary: 'Replace the objectives by these, as a new version',
    caller: maintainer,
    params: environmentParams,
    body: wanted,
    reply: set,
    problems: ['version-conflict'],
  }),
  versions: operation({
    id: 'objectives.versions',
    command: 'objective versions',
    method: 'GET',
    path: `${ENVIRONMENT}/objectives/versions`,
    summary: 'Every version of the objectives, latest first: who stored it and why',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(set) }),
  }),
  trial: operation({
    id: 'objectives.try',
    method: 'POST',
    path: `${ENVIRONMENT}/objectives/trial`,
    summary: 'What an objective would have said over the last days, beside what was said',
    caller: viewer,
    changes: 'nothing',
    params: environmentParams,
    body: z.strictObject({ objective, days: z.int().min(1).max(30).default(7) }),
    reply: z.object({
      stepMs: z.int(),
      would: trialLine.describe('By the given objective'),
      now: trialLine.nullable().describe('By the objective of this name that is in force; null where there is none'),
      said: z.array(change).describe('Changes of the environment’s condition in that time'),
      before: condition.describe('The environment’s condition when that time began'),
    }),
  }),
  exportSlo: operation({
    id: 'objectives.export',
    command: 'objective export',
    method: 'GET',
    path: `${ENVIRONMENT}/objectives/openslo`,
    summary: 'The objectives as OpenSLO v1 (YAML)',
    caller: viewer,
    params: environmentParams,
    reply: z.string(),
    replyTypes: ['application/yaml'],
  }),
  importSlo: operation({
    id: 'objectives.import',
    changes: 'objectives',
    method: 'POST',
    path: `${ENVIRONMENT}/objectives/openslo`,
    summary: 'Read objectives from OpenSLO v1 (YAML): what would change, and with `apply` as a new version',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({
      yaml: text(500_000),
      apply: z.boolean().default(false),
      why: text(500).optional(),
    }),
    reply: z.object({
      applied: z.boolean(),
      notes: z.array(z.string()).describe('What the file says that is not taken over'),
      differences: z.array(
        z.object({
          name: z.string(),
          change: z.enum(['added', 'changed', 'removed']),
          before: objective.nullable(),
          after: objective.nullable(),
        }),
      ),
      set,
    }),
  }),
};
