import { BUILT_IN, EVENT_PROBLEMS, type EventProblem, PROPERTY_TYPES } from '@orchard/core/words';
import { z } from 'zod';
import { ENVIRONMENT, environmentParams, jsonObject, nothing, operation, time } from '../common.js';
import { timeZone } from './memberWays.js';

const problem = z.enum(Object.keys(EVENT_PROBLEMS) as [EventProblem, ...EventProblem[]]);
export const eventName = z.string().min(1).max(100);
const propertyName = z.string().regex(/^[A-Za-z_][A-Za-z0-9_]{0,62}$/, 'A letter or _, then up to 62 letters, digits or _.');
const property = z.strictObject({ type: z.enum(PROPERTY_TYPES), description: z.string().max(300).optional() });

export const plannedEvent = z.strictObject({
  name: eventName,
  description: z.string().max(500).default(''),
  owner: z.string().max(100).default('').describe('Who answers for it'),
  properties: z.record(propertyName, property).default({}),
});
export type PlannedEventDocument = z.output<typeof plannedEvent>;

const seenEvent = z
  .object({
    name: eventName,
    description: z.string(),
    owner: z.string(),
    planned: z.boolean(),
    properties: z.array(
      z.object({
        name: z.string(),
        type: z.enum(PROPERTY_TYPES),
        description: z.string(),
        planned: z.boolean(),
        lastAt: time.nullable().describe('When it last came so; null for one that never came'),
      }),
    ),
    firstAt: time.nullable(),
    lastAt: time.nullable().describe('Null for one that never came'),
    misfits: z.int().describe('Events of this name that were not as planned'),
  })
  .meta({ id: 'EventKind' });
export type EventKind = z.infer<typeof seenEvent>;

const settings = z
  .object({
    zone: timeZone.describe('In which days and weeks begin, where a question does not say'),
    unplanned: z.enum(['take', 'refuse']).describe('What becomes of events that are not in the plan or do not fit it'),
    consent: z.boolean().describe('Whether events are dropped unless the app says that the person consents'),
    barred: z.array(propertyName).max(100).describe('Properties that are not kept'),
    visitGapMin: z.int().min(1).max(1_440).describe('Minutes of silence after which a visit has ended'),
    days: z.int().min(7).max(4_000).describe('How many days events are kept'),
  })
  .meta({ id: 'InsightSettings' });
export type InsightSettings = z.infer<typeof settings>;

const refusal = z.object({
  problem,
  title: z.string(),
  name: z.string().describe('Of the event, as far as it has one'),
  client: z.string(),
  count: z.int(),
  firstAt: time,
  lastAt: time,
  detail: z.string().describe('Of the latest'),
  sample: z.string().describe('The latest, as JSON'),
});
export type EventRefusal = z.infer<typeof refusal>;

const arrived = z
  .object({
    at: time,
    receivedAt: time,
    name: z.string(),
    person: z.int(),
    userId: z.string().nullable(),
    deviceId: z.string().nullable(),
    properties: jsonObject.describe('Own and built-in ones'),
  })
  .meta({ id: 'ArrivedEvent' });
export type ArrivedEvent = z.infer<typeof arrived>;

const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const oneName = environmentParams.extend({ event: eventName });

export const eventOperations = {
  bring: operation({
    id: 'events.bring',
    hooked: { subject: 'events', action: 'create', value: 'body' },
    method: 'POST',
    path: '/app/v1/events',
    summary: 'Bring events of an app, up to 500 at once; each is taken or refused by itself',
    caller: { kind: 'app', user: 'optional' },
    requestHeaders: ['Orchard-Device', 'Orchard-Device-Secret'],
    bodyLimit: 4_000_000,
    body: z.strictObject({
      sentAt: time.describe('The app’s clock when it sent them: what its clock is off is taken out of their times'),
      consent: z.boolean().optional().describe('Whether the person consents to being counted'),
      events: z
        .array(z.unknown())
        .min(1)
        .max(500)
        .describe('Each `{ id, name, at, visit?, properties? }`; one that was brought within the last eight days counts once'),
    }),
    reply: z.object({
      taken: z.int().describe('Those that were taken before count here, too'),
      refused: z.array(z.object({ index: z.int(), problem, detail: z.string() })),
    }),
    problems: ['access-refused', 'rate-exceeded'],
  }),
  list: operation({
    id: 'events.list',
    command: 'event list',
    method: 'GET',
    path: `${ENVIRONMENT}/events`,
    summary: 'The kinds of events that came or are planned, with their properties',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(seenEvent), builtIn: z.array(z.enum(BUILT_IN)) }),
  }),
  types: operation({
    id: 'events.types',
    command: 'event types',
    method: 'GET',
    path: `${ENVIRONMENT}/event-types`,
    summary: 'The event plan as types of TypeScript, for `orchard.events<Events>(device)` of the client library',
    caller: viewer,
    params: environmentParams,
    reply: z.string(),
    replyTypes: ['text/plain'],
  }),
  plan: operation({
    id: 'events.plan',
    changes: 'event plan',
    command: 'event plan <json>',
    method: 'PUT',
    path: `${ENVIRONMENT}/events/{event}`,
    summary: 'Plan an event: its properties with their types, what it means, and who answers for it',
    caller: developer,
    params: oneName,
    body: plannedEvent.omit({ name: true }),
    reply: seenEvent,
  }),
  unplan: operation({
    id: 'events.unplan',
    changes: 'event plan',
    command: 'event unplan',
    method: 'DELETE',
    path: `${ENVIRONMENT}/events/{event}`,
    summary: 'Take an event out of the plan; what came stays',
    caller: developer,
    params: oneName,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  refusals: operation({
    id: 'events.refusals',
    command: 'event refusals',
    method: 'GET',
    path: `${ENVIRONMENT}/event-refusals`,
    summary: 'Events that were refused in the last eight days, by reason, with a sample of each',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(refusal) }),
  }),
  latest: operation({
    id: 'events.latest',
    command: 'event latest',
    method: 'GET',
    path: `${ENVIRONMENT}/events/latest`,
    summary: 'The events that came last, of all or of one device or user: is it sending?',
    caller: viewer,
    params: environmentParams,
    query: z.strictObject({
      device: z.string().max(64).optional(),
      user: z.string().max(64).optional(),
      limit: z.coerce.number().int().min(1).max(200).default(50),
    }),
    reply: z.object({ items: z.array(arrived) }),
  }),
  settings: operation({
    id: 'insight.settings',
    command: 'insight settings',
    method: 'GET',
    path: `${ENVIRONMENT}/insight/settings`,
    summary: 'What is taken of events, and how it is counted',
    caller: viewer,
    params: environmentParams,
    reply: settings,
  }),
  changeSettings: operation({
    id: 'insight.changeSettings',
    command: 'insight set',
    changes: 'insight settings',
    method: 'PATCH',
    path: `${ENVIRONMENT}/insight/settings`,
    summary: 'Change what is taken of events, and how it is counted',
    caller: maintainer,
    params: environmentParams,
    body: settings.partial().strict(),
    reply: settings,
  }),
};
