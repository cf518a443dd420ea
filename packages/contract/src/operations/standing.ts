/** Standing notifications: sent for each record of a collection, so long before or after a date or time in it. */
import { z } from 'zod';
import {
  ENVIRONMENT,
  actor,
  collectionName,
  environmentParams,
  listQuery,
  nothing,
  operation,
  page,
  time,
  timeZone,
  uuid,
} from '../common.js';
import { clock, contentSet, WAYS } from './newNotification.js';

const YEAR_MIN = 525_600;
export const standingDefinition = contentSet.extend({
  name: z.string().trim().min(1).max(80).describe('What the team calls it'),
  collection: collectionName,
  field: collectionName.describe('A date or a time of the record'),
  filter: z.string().trim().max(4000).optional().describe('Which records, in CQL2; all if left out'),
  to: z.string().max(63).default('ownerId').describe('Who gets it: `ownerId`, or a field that refers to a user'),
  daysBefore: z.int().min(-365).max(365).optional().describe('With a date: so many days before it; after it, if negative'),
  at: clock.optional().describe('With a date: the time of day, on the clock of who gets it'),
  minutesBefore: z.int().min(-YEAR_MIN).max(YEAR_MIN).optional().describe('With a time: so many minutes before it; after it, if negative'),
  zone: timeZone
    .optional()
    .describe('The clock for everybody, such as that of the place; otherwise each person’s own, as their device tells'),
  way: z.enum(WAYS).default('push'),
  active: z.boolean().default(true),
});
export type StandingDefinition = z.output<typeof standingDefinition>;

export const standing = standingDefinition
  .extend({
    id: uuid,
    createdBy: actor,
    createdAt: time,
    changedAt: time,
    checkedTo: time.describe('Up to when it has been looked for what is due'),
    problem: z.string().nullable().describe('Why it cannot be sent at present'),
    sent: z.int().describe('Notifications in the last 30 days'),
    lastSentAt: time.nullable(),
  })
  .meta({ id: 'StandingNotification' });
export type Standing = z.output<typeof standing>;

const upcoming = z
  .object({
    record: z.string(),
    value: z.string().describe('The date or time in the record'),
    dueAt: time,
    zone: z.string().describe('Whose clock it goes by'),
    userId: uuid.nullable(),
    person: z.string().nullable(),
    title: z.string().nullable(),
    body: z.string().nullable(),
    reach: z.string().describe('On how many devices it can arrive, or why on none'),
  })
  .meta({ id: 'UpcomingNotification' });
export type Upcoming = z.output<typeof upcoming>;

export const STANDING_OUTCOMES = ['sent', 'nobody', 'failed'] as const;
const sent = z
  .object({
    record: z.string(),
    value: z.string(),
    at: time,
    userId: z.string().nullable(),
    outcome: z.enum(STANDING_OUTCOMES),
    reason: z.string().nullable(),
    notification: uuid.nullable(),
  })
  .meta({ id: 'SentForRecord' });
export type SentForRecord = z.output<typeof sent>;

const AT = `${ENVIRONMENT}/standing-notifications`;
const one = environmentParams.extend({ standing: uuid });
const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const limit = z.strictObject({ limit: z.coerce.number().int().min(1).max(200).default(20) });
const next = z.object({ items: z.array(upcoming) });

export const standingOperations = {
  list: operation({
    id: 'standing.list',
    command: 'standing list',
    method: 'GET',
    path: AT,
    summary: 'Standing notifications',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(standing) }),
  }),
  add: operation({
    id: 'standing.add',
    changes: 'standing notification',
    command: 'standing add',
    method: 'POST',
    path: AT,
    summary: 'Send a notification for each record, so long before or after a date or time in it',
    caller: developer,
    params: environmentParams,
    body: standingDefinition,
    status: 201,
    reply: standing,
    problems: ['collection-unknown', 'outside-unsupported', 'malformed-filter', 'wrong-state'],
  }),
  change: operation({
    id: 'standing.change',
    changes: 'standing notification',
    command: 'standing change',
    method: 'PUT',
    path: `${AT}/{standing}`,
    summary: 'Change a standing notification; what is due from now on goes by it',
    caller: developer,
    params: one,
    body: standingDefinition,
    reply: standing,
    problems: ['not-found', 'collection-unknown', 'outside-unsupported', 'malformed-filter'],
  }),
  remove: operation({
    id: 'standing.remove',
    changes: 'standing notification',
    command: 'standing remove',
    method: 'DELETE',
    path: `${AT}/{standing}`,
    summary: 'Delete a standing notification; nothing more is sent for it',
    caller: developer,
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  preview: operation({
    id: 'standing.preview',
    changes: 'nothing',
    method: 'POST',
    path: `${AT}/preview`,
    summary: 'Who would get what next, if it were added',
    caller: viewer,
    params: environmentParams,
    query: limit,
    body: standingDefinition,
    reply: next,
    problems: ['collection-unknown', 'outside-unsupported', 'malformed-filter'],
  }),
  next: operation({
    id: 'standing.next',
    command: 'standing next',
    method: 'GET',
    path: `${AT}/{standing}/next`,
    summary: 'Who gets what next, as the records stand now',
    caller: viewer,
    params: one,
    query: limit,
    reply: next,
    problems: ['not-found', 'collection-unknown', 'outside-unsupported', 'malformed-filter', 'invalid-input'],
  }),
  sent: operation({
    id: 'standing.sent',
    command: 'standing sent',
    method: 'GET',
    path: `${AT}/{standing}/sent`,
    summary: 'What was sent for which record in the last 90 days, latest first',
    caller: viewer,
    params: one,
    query: listQuery,
    reply: page(sent),
    problems: ['not-found'],
  }),
};
