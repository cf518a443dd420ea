import { CALENDAR_STEPS, FUNNEL_ORDERS } from '@orchard/core/words';
import { z } from 'zod';
import { ENVIRONMENT, environmentParams, operation, time } from '../common.js';
import { timeZone } from './memberWays.js';

const eventName = z.string().min(1).max(100);
const filter = z.string().max(4000).describe('A condition in CQL2 text over the properties of events, and `event`, their name');
const property = z.string().min(1).max(63);
const by = z
  .array(property)
  .max(3)
  .describe('Properties, `event`, or `person`: whether they came first in the period. One group for each combination of values');
const top = z.int().min(1).max(50).default(10).describe('So many groups; the others together');

const period = {
  from: time.optional().describe('Default: 28 days before `until`'),
  until: time.optional().describe('Default: now'),
  zone: timeZone.optional().describe('In which days and weeks begin; by default, that of the environment'),
};
const step = z.enum(CALENDAR_STEPS).optional().describe('By default one that divides the period into at most a hundred');
const wanted = z.strictObject({ event: eventName.optional().describe('Any, if left out'), filter: filter.optional() });

const answered = {
  from: time,
  until: time,
  zone: z.string(),
  erased: z.int().describe('People who were deleted: their events do not count any more, in the past either'),
  tookMs: z.int(),
};
const group = z
  .union([z.array(z.string().nullable()), z.literal('others')])
  .describe('Values of the properties; null where an event has none');
const series = z.array(
  z.object({
    group,
    total: z.number().nullable(),
    steps: z.array(z.object({ at: time, value: z.number().nullable() })),
  }),
);

export const MEASURE = /^(count|people|perPerson|(sum|mean|p50|p95|p99):[A-Za-z_][A-Za-z0-9_]{0,62})$/;
const countReply = z
  .object({
    ...answered,
    step: z.enum(CALENDAR_STEPS),
    series,
    groups: z.int().describe('How many there are in all'),
    previous: series.optional().describe('The period before, of the same length, with `compare`'),
  })
  .meta({ id: 'EventCounts' });
export type EventCounts = z.infer<typeof countReply>;

const funnelStep = z.object({
  event: z.string().nullable(),
  people: z.int(),
  ofFirst: z.number().nullable().describe('Share of those at the first step'),
  ofPrevious: z.number().nullable(),
  medianMs: z.number().nullable().describe('Median of the time since the step before'),
});
const funnelReply = z
  .object({
    ...answered,
    steps: z.array(funnelStep),
    groups: z.array(z.object({ group, steps: z.array(funnelStep) })),
    trendStep: z.enum(CALENDAR_STEPS),
    trend: z
      .array(z.object({ at: time, people: z.int(), through: z.int() }))
      .describe('By when people began: how many, and how many of them got through all steps'),
    durations: z.array(z.object({ upToMs: z.number().nullable(), people: z.int() })).describe('From the first step to the last'),
  })
  .meta({ id: 'FunnelAnswer' });
export type FunnelReply = z.infer<typeof funnelReply>;

const funnelBody = z.strictObject({
  ...period,
  steps: z
    .array(z.strictObject({ event: eventName, filter: filter.optional() }))
    .min(1)
    .max(20),
  windowMs: z
    .int()
    .min(1_000)
    .max(90 * 86_400_000)
    .default(86_400_000)
    .describe('From the first step to the last'),
  order: z.enum(FUNNEL_ORDERS).default('ordered').describe('`ordered`: others may come between; `strict`: none; `any`: in any order'),
  without: z.array(wanted).max(5).default([]).describe('What ends an attempt when it comes between the steps'),
  perVisit: z.boolean().default(false).describe('Whether each visit is an attempt of its own'),
  by: by.default([]),
  top,
});

const whyReply = z
  .object({
    ...answered,
    stopped: z.int().describe('People who reached the step and not the next'),
    went: z.int().describe('People who reached the next'),
    differences: z
      .array(
        z.object({
          property: z.string(),
          value: z.string().nullable(),
          stopped: z.int(),
          went: z.int(),
          shareOfStopped: z.number(),
          shareOfWent: z.number(),
          p: z.number().describe('Of a two-proportion z-test; those that hold at a false discovery rate of 5 % are listed'),
          words: z.string(),
        }),
      )
      .describe('The properties in which they differ most at that step'),
    calls: z
      .object({
        people: z.int().describe('Of those who stopped: how many had a refused, failed or slow call just before'),
        asked: z.int().describe('How many of them were looked at: beyond a thousand, those with the lowest numbers'),
        sampled: z.boolean().describe('Whether only a share of such calls was kept in the time'),
        since: time.nullable().describe('Calls before this are not kept any more; null: all of the period are'),
        items: z
          .array(
            z.object({
              problem: z.string().nullable().describe('Null: it was slow'),
              method: z.string(),
              route: z.string(),
              target: z.string().nullable(),
              people: z.int(),
              request: z.string().describe('The latest such request'),
            }),
          )
          .describe(
            'The last such call of each person, in the half hour before they were last at the step or the five minutes after; most people first',
          ),
      })
      .describe('What went wrong just before'),
    next: z
      .array(z.object({ event: z.string().nullable(), people: z.int() }))
      .describe('What those who stopped did next; null: nothing within the window'),
  })
  .meta({ id: 'WhyTheyStop' });
export type WhyReply = z.infer<typeof whyReply>;

const visitFigures = z.object({
  visits: z.int(),
  people: z.int(),
  perPerson: z.number().nullable(),
  meanMs: z.number().nullable(),
  medianMs: z.number().nullable(),
  p95Ms: z.number().nullable(),
  meanEvents: z.number().nullable(),
});
const visitsReply = z
  .object({
    ...answered,
    step: z.enum(CALENDAR_STEPS),
    total: visitFigures,
    steps: z.array(z.object({ at: time, visits: z.int(), meanMs: z.number().nullable() })),
    lengths: z.array(z.object({ upToMs: z.number().nullable(), visits: z.int() })),
    groups: z.array(z.object({ group, figures: visitFigures })),
    previous: visitFigures.optional(),
  })
  .meta({ id: 'VisitsAnswer' });
export type VisitsReply = z.infer<typeof visitsReply>;

const arrivalsReply = z
  .object({
    ...answered,
    step: z.enum(CALENDAR_STEPS),
    total: z.int().describe('New people of the period'),
    before: z.int().describe('People who came before it'),
    active: z.int().describe('People with at least one event in the period'),
    activity: z
      .object({ day: z.int(), week: z.int(), month: z.int(), ratio: z.number().nullable().describe('Of a day to a month') })
      .describe('People active in the last day, 7 and 28 days of the period'),
    steps: z.array(z.object({ at: time, new: z.int(), active: z.int() })),
    groups: z.array(
      z.object({
        group,
        total: z.int(),
        since: time.nullable().describe('When the group’s first person came: groups can be set beside each other from there'),
        steps: z.array(z.int()),
      }),
    ),
    previous: z.object({ total: z.int(), active: z.int() }).optional(),
  })
  .meta({ id: 'ArrivalsAnswer' });
export type ArrivalsReply = z.infer<typeof arrivalsReply>;

const returnsReply = z
  .object({
    ...answered,
    step: z.enum(CALENDAR_STEPS),
    cohorts: z.array(
      z.object({
        at: time,
        people: z.int(),
        returned: z.array(z.int()).describe('From the cohort itself: how many were there again in each step after'),
      }),
    ),
    curve: z.array(z.number().nullable()).describe('Share that was there again after so many steps, over all cohorts whose step is over'),
    groups: z
      .array(z.object({ group, people: z.int(), curve: z.array(z.number().nullable()) }))
      .describe('With `group`, most people first'),
  })
  .meta({ id: 'ReturnsAnswer' });
export type ReturnsReply = z.infer<typeof returnsReply>;

export type PathNode = { event: string | null; count: number; next: PathNode[] };
const pathNode: z.ZodType<PathNode> = z.object({
  event: z.string().nullable().describe('Null: rare ones together; empty: the visit ended or began there'),
  count: z.int(),
  get next() {
    return z.array(pathNode);
  },
});
const pathsReply = z.object({ ...answered, total: z.int(), next: z.array(pathNode) }).meta({ id: 'PathsAnswer' });
export type PathsReply = z.infer<typeof pathsReply>;

const peopleReply = z
  .object({
    total: z.int(),
    items: z.array(z.object({ person: z.int(), userId: z.string().nullable(), deviceIds: z.array(z.string()), firstAt: time })),
  })
  .meta({ id: 'PeopleAnswer' });
export type PeopleReply = z.infer<typeof peopleReply>;

const effectReply = z
  .object({
    ...answered,
    items: z.array(
      z.object({
        outcome: z.enum(['opened', 'arrived', 'not reached']).describe('The best of a person’s deliveries'),
        variant: z.string(),
        people: z.int(),
        did: z.int().describe('Those with the event within the time'),
        share: z.number().nullable(),
      }),
    ),
    p: z
      .number()
      .nullable()
      .describe('Of a two-proportion z-test between those who opened it and those it did not reach; null without both'),
  })
  .meta({ id: 'MessageEffect' });
export type EffectReply = z.infer<typeof effectReply>;

const compare = z.literal('previous').optional().describe('The period before, too');
const viewer = { kind: 'member', role: 'viewer' } as const;
const INSIGHT = `${ENVIRONMENT}/insight`;
const common = {
  method: 'POST',
  caller: viewer,
  params: environmentParams,
  changes: 'nothing',
  progress: true,
  problems: ['malformed-filter'],
} as const;

/** The questions that can be asked of several environments at once. */
export const SHARED_QUESTIONS = ['events', 'arrivals', 'visits', 'funnel', 'returns', 'paths'] as const;
export type SharedQuestion = (typeof SHARED_QUESTIONS)[number];
const acrossReply = z
  .object({
    items: z.array(
      z.object({
        app: z.string(),
        environment: z.string(),
        answer: z.unknown().describe('As the question answers in one environment; null where it was refused there'),
        refused: z.string().nullable().describe('Why; for example a property that never came there'),
      }),
    ),
  })
  .meta({ id: 'AnswersByEnvironment' });
export type AcrossReply = z.infer<typeof acrossReply>;

export const insightOperations = {
  events: operation({
    ...common,
    id: 'insight.events',
    command: 'insight events',
    path: `${INSIGHT}/events`,
    summary: 'How often something happened, or how many people did it, over time and by group',
    body: z.strictObject({
      ...period,
      step,
      stepMs: z.int().min(3_600_000).optional().describe('Instead of `step`: the calendar step of about this length'),
      event: eventName.optional().describe('Any, if left out'),
      filter: filter.optional(),
      group: by.default([]),
      measure: z
        .string()
        .regex(MEASURE, 'count, people, perPerson, or sum, mean, p50, p95 or p99 of a number, such as sum:nights.')
        .default('count'),
      top,
      compare,
    }),
    reply: countReply,
    problems: ['malformed-filter'],
  }),
  funnel: operation({
    ...common,
    id: 'insight.funnel',
    command: 'insight funnel',
    path: `${INSIGHT}/funnel`,
    summary: 'How many people get through a list of steps, how fast, and by group',
    body: funnelBody.extend({ trendStep: step }),
    reply: funnelReply,
    problems: ['malformed-filter'],
  }),
  why: operation({
    ...common,
    id: 'insight.why',
    command: 'insight why',
    path: `${INSIGHT}/funnel/why`,
    summary: 'Why people stop at a step of a funnel: in which properties they differ from those who went on, and what they did next',
    body: funnelBody.extend({ step: z.int().min(0).max(18).describe('The step they reached, from 0') }),
    reply: whyReply,
    problems: ['malformed-filter'],
  }),
  people: operation({
    ...common,
    id: 'insight.people',
    path: `${INSIGHT}/people`,
    summary: 'The people behind a step of a funnel: all who reached it, or who stopped there',
    body: funnelBody.extend({
      step: z.int().min(0).max(19),
      stopped: z.boolean().default(false),
      limit: z.int().min(1).max(1_000).default(100),
    }),
    reply: peopleReply,
    problems: ['malformed-filter'],
  }),
  behind: operation({
    ...common,
    id: 'insight.behind',
    command: 'insight behind',
    path: `${INSIGHT}/behind`,
    summary: 'The people behind a figure: who did something in a period, most often first',
    body: z.strictObject({
      ...period,
      event: eventName.optional().describe('Any, if left out'),
      filter: filter.optional(),
      newSince: time.optional().describe('Only people whose first event of all came then or later'),
      newBefore: time.optional().describe('Only people whose first event of all came before'),
      limit: z.int().min(1).max(1_000).default(100),
    }),
    reply: z
      .object({
        ...answered,
        total: z.int(),
        items: z.array(
          z.object({
            person: z.int(),
            userId: z.string().nullable(),
            deviceIds: z.array(z.string()),
            firstAt: time,
            times: z.int().describe('How often in the period'),
          }),
        ),
      })
      .meta({ id: 'PeopleBehind' }),
    problems: ['malformed-filter'],
  }),
  effect: operation({
    ...common,
    id: 'insight.effect',
    command: 'insight effect',
    path: `${INSIGHT}/effect`,
    summary: 'What a notification did: who opened it and then did something, beside those it did not reach',
    body: z.strictObject({
      notification: z.uuid(),
      event: eventName,
      filter: filter.optional(),
      withinMs: z
        .int()
        .min(60_000)
        .max(30 * 86_400_000)
        .default(86_400_000)
        .describe('From when it was opened, came, or was tried'),
    }),
    reply: effectReply,
    problems: ['malformed-filter', 'not-found'],
  }),
  visits: operation({
    ...common,
    id: 'insight.visits',
    command: 'insight visits',
    path: `${INSIGHT}/visits`,
    summary: 'Visits: how many, how long, and by group',
    body: z.strictObject({ ...period, step, filter: filter.optional(), group: by.default([]), top, compare }),
    reply: visitsReply,
    problems: ['malformed-filter'],
  }),
  arrivals: operation({
    ...common,
    id: 'insight.arrivals',
    command: 'insight arrivals',
    path: `${INSIGHT}/arrivals`,
    summary: 'Who is new and who is there, over time and by group',
    body: z.strictObject({ ...period, step, filter: filter.optional(), group: by.default([]), top, compare }),
    reply: arrivalsReply,
    problems: ['malformed-filter'],
  }),
  returns: operation({
    ...common,
    id: 'insight.returns',
    command: 'insight returns',
    path: `${INSIGHT}/returns`,
    summary: 'Who comes back: people by when they came first, and how many were there again in each step after',
    body: z.strictObject({
      ...period,
      step: z.enum(['day', 'week', 'month']).default('week'),
      first: wanted.optional().describe('What makes somebody part of a cohort; by default their very first use'),
      again: wanted.optional().describe('What counts as coming back; by default any event'),
      orLater: z.boolean().default(false).describe('Whether somebody counts in every step up to their last'),
      group: by.default([]).describe('By what people were at their first time'),
      top,
    }),
    reply: returnsReply,
    problems: ['malformed-filter'],
  }),
  paths: operation({
    ...common,
    id: 'insight.paths',
    command: 'insight paths',
    path: `${INSIGHT}/paths`,
    summary: 'What people do before or after an event in the same visit',
    body: z.strictObject({
      ...period,
      event: eventName,
      filter: filter.optional(),
      direction: z.enum(['after', 'before']).default('after'),
      depth: z.int().min(1).max(6).default(4),
      leastShare: z.number().min(0).max(0.5).default(0.02).describe('Rarer branches are put together'),
    }),
    reply: pathsReply,
    problems: ['malformed-filter'],
  }),
  across: operation({
    id: 'insight.across',
    command: 'insight across <question>',
    method: 'POST',
    path: '/manage/v1/insight/across',
    summary: 'One question asked of several environments, each answer beside the others',
    caller: viewer,
    changes: 'nothing',
    progress: true,
    body: z.strictObject({
      question: z.enum(SHARED_QUESTIONS),
      environments: z
        .array(z.string().regex(/^[^/]+\/[^/]+$/, 'Must be <app>/<environment>.'))
        .min(1)
        .max(50)
        .optional()
        .describe('`<app>/<environment>`; all that the member may see, if left out'),
      body: z.record(z.string(), z.unknown()).describe('As in one environment').default({}),
    }),
    reply: acrossReply,
    problems: ['not-found', 'malformed-filter'],
  }),
};
