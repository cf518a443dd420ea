import { CELL_TYPES, DIGEST_RHYTHMS, FIGURE_UNITS, SERIES_COLOURS } from '@orchard/core/words';
import { z } from 'zod';
import {
  actor,
  collectionName,
  ENVIRONMENT,
  email,
  environmentParams,
  linkToken,
  memberId,
  nothing,
  operation,
  slug,
  time,
} from '../common.js';
import { timeZone } from './memberWays.js';

/** What a report can be made of, as it is called on pages. */
export const REPORT_SOURCES = {
  summary: 'Summary',
  use: 'API use',
  people: 'People',
  events: 'Events',
  visits: 'Visits',
  funnel: 'Funnel',
  returns: 'Returns',
  condition: 'Condition',
  problems: 'Problems',
  requests: 'Requests',
  log: 'Log entries',
  errors: 'Errors of apps',
  incidents: 'Incidents',
  records: 'Records',
  users: 'Users',
  devices: 'Devices',
  notifications: 'Notifications',
} as const;
export type ReportSource = keyof typeof REPORT_SOURCES;

export const REPORT_PERIODS = {
  hour: 'last hour',
  day: 'last 24 hours',
  week: 'last 7 days',
  'four-weeks': 'last 28 days',
  quarter: 'last 90 days',
} as const;
export type ReportPeriod = keyof typeof REPORT_PERIODS;

const text = (most: number) => z.string().trim().min(1).max(most);
const settings = {
  name: text(80),
  source: z.enum(Object.keys(REPORT_SOURCES) as [ReportSource, ...ReportSource[]]),
  period: z.enum(Object.keys(REPORT_PERIODS) as [ReportPeriod, ...ReportPeriod[]]).default('week'),
  collection: collectionName.optional().describe('Of `records`'),
  filter: z.string().max(4000).optional().describe('Of a list: a condition in CQL2 text'),
  sort: z.string().max(400).optional().describe('Of a list'),
  columns: z.array(z.string().max(63)).max(12).optional().describe('Of a list: the fields shown; by default those that matter most'),
  question: z
    .record(z.string(), z.json())
    .optional()
    .describe('Of `events`, `visits`, `funnel`, `returns`: the body of that call of insight, without a period'),
  client: z.string().max(40).optional().describe('Of `use`: only this client'),
  route: z.string().max(200).optional().describe('Of `use`: only this route'),
  target: z.string().max(64).optional().describe('Of `use`: only this collection or channel'),
};
/** What the list behind a report can refuse; of records, the collection may be gone, or be a table of an outside server. */
const LISTED = ['malformed-filter', 'collection-unknown', 'outside-unavailable', 'outside-changed', 'outside-unsupported'] as const;
export const newReport = z.strictObject(settings).meta({ id: 'NewReport' });
export type NewReport = z.output<typeof newReport>;
const report = z.object({ id: z.string(), ...settings, by: actor, at: time }).meta({ id: 'Report' });
export type Report = z.infer<typeof report>;

const figure = z.object({
  label: z.string(),
  value: z.number().nullable(),
  unit: z.enum(FIGURE_UNITS).describe('`share`: 1 is all'),
  before: z.number().nullable().optional().describe('In the period before; absent where it is not compared'),
  worse: z.enum(['higher', 'lower']).nullable().describe('Which direction is bad news'),
});
const block = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('figures'), title: z.string(), items: z.array(figure) }),
  z.object({
    kind: z.literal('chart'),
    title: z.string(),
    unit: z.string(),
    stepMs: z.int(),
    draw: z.enum(['line', 'bar']),
    from: time.describe('Start of the first step'),
    series: z.array(z.object({ label: z.string(), colour: z.enum(SERIES_COLOURS), values: z.array(z.number().nullable()) })),
  }),
  z.object({
    kind: z.literal('table'),
    title: z.string(),
    columns: z.array(z.object({ name: z.string(), label: z.string(), type: z.enum(CELL_TYPES) })),
    rows: z.array(z.array(z.union([z.string(), z.number(), z.null()]))),
    isCut: z.boolean().describe('Whether there are rows beyond these'),
  }),
  z.object({
    kind: z.literal('care'),
    items: z.array(z.object({ weight: z.number(), text: z.string(), link: z.string().describe('A path of the console') })),
  }),
]);
const reportDocument = z
  .object({
    title: z.string(),
    app: z.string(),
    environment: z.string(),
    from: time,
    until: time,
    zone: z.string(),
    madeAt: time,
    blocks: z.array(block),
  })
  .meta({ id: 'ReportDocument' });
export type ReportPaper = z.infer<typeof reportDocument>;

const clock = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'A time of the day, such as 07:30.');
const place = z
  .strictObject({
    app: slug,
    environment: slug,
    reports: z.array(z.string().max(64)).max(10).default([]).describe('Ids of saved reports that follow the summary'),
  })
  .describe('An environment');
const newReader = z.union([
  z.strictObject({ member: memberId, timeZone: timeZone.optional() }),
  z.strictObject({ address: email, timeZone: timeZone.optional() }),
]);
const newDigest = z
  .strictObject({
    name: text(80),
    every: z.enum(DIGEST_RHYTHMS),
    at: clock.default('07:30').describe('By the clock of each reader'),
    weekday: z.int().min(1).max(7).default(1).describe('Of a weekly one: 1 is Monday, 7 is Sunday'),
    timeZone: timeZone.default('UTC').describe('Of readers for whom none is known'),
    environments: z.array(place).min(1).max(20),
    readers: z.array(newReader).max(50).default([]).describe('Besides you: members, or addresses that confirm first'),
  })
  .meta({ id: 'NewDigest' });
export type NewDigest = z.output<typeof newDigest>;

const reader = z.object({
  id: z.string(),
  member: z.object({ id: z.string(), name: z.string() }).nullable(),
  address: z.string().nullable().describe('Of a reader who is no member'),
  timeZone: z.string(),
  confirmed: z.boolean(),
  nextAt: time.nullable().describe('Null until confirmed'),
  lastSentAt: time.nullable(),
  lastFailure: z.string().nullable().describe('Why the latest one did not go out'),
});
const digest = z
  .object({
    id: z.string(),
    name: z.string(),
    every: z.enum(DIGEST_RHYTHMS),
    at: clock,
    weekday: z.int(),
    timeZone: z.string(),
    environments: z.array(place).describe('Those that you may see'),
    readers: z.array(reader),
    by: actor,
    mine: z.boolean().describe('Whether you may change it'),
  })
  .meta({ id: 'Digest' });
export type DigestDocument = z.infer<typeof digest>;

const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const person = { kind: 'member', role: 'viewer', person: true } as const;
const anyone = { kind: 'anyone' } as const;
const one = environmentParams.extend({ report: z.string().max(64) });
const oneDigest = z.object({ digest: z.string().max(64) });
const range = z.strictObject({
  from: time.optional().describe('Default: the period of the report'),
  until: time.optional().describe('Default: now'),
  zone: timeZone.default('UTC').describe('In which days begin and times are shown'),
});

export const reportOperations = {
  list: operation({
    id: 'reports.list',
    command: 'report list',
    method: 'GET',
    path: `${ENVIRONMENT}/reports`,
    summary: 'Saved reports',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(report) }),
  }),
  save: operation({
    id: 'reports.save',
    changes: 'report',
    command: 'report save <name>',
    method: 'POST',
    path: `${ENVIRONMENT}/reports`,
    summary: 'Save a list, a summary, API use or the condition with its period; a report of the same name is replaced',
    caller: developer,
    params: environmentParams,
    body: newReport,
    status: 201,
    reply: report,
    problems: [...LISTED, 'not-found'],
  }),
  read: operation({
    id: 'reports.read',
    command: 'report show',
    method: 'GET',
    path: `${ENVIRONMENT}/reports/{report}`,
    summary: 'A report as of now, or of a chosen period, with the rights of whoever reads it',
    caller: viewer,
    params: one,
    query: range,
    reply: z.object({ report, document: reportDocument }),
    problems: [...LISTED, 'not-found', 'role-insufficient'],
  }),
  file: operation({
    id: 'reports.file',
    command: 'report file',
    method: 'GET',
    path: `${ENVIRONMENT}/reports/{report}/file`,
    summary: 'The tables of a report as CSV, one after another',
    caller: viewer,
    params: one,
    query: range,
    reply: z.string(),
    replyTypes: ['text/csv'],
    problems: [...LISTED, 'not-found', 'role-insufficient'],
  }),
  remove: operation({
    id: 'reports.remove',
    changes: 'report',
    command: 'report remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/reports/{report}`,
    summary: 'Remove a saved report',
    caller: developer,
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};

const DIGESTS = '/manage/v1/digests';

export const digestOperations = {
  list: operation({
    id: 'digests.list',
    command: 'digest list',
    method: 'GET',
    path: DIGESTS,
    summary: 'Digests that you made or read',
    caller: person,
    reply: z.object({
      items: z.array(digest),
      missing: z.string().nullable().describe('What the installation lacks to send them; null for nothing'),
    }),
  }),
  add: operation({
    id: 'digests.add',
    changes: 'digest',
    command: 'digest add <json>',
    method: 'POST',
    path: DIGESTS,
    summary: 'Mail a digest every day, week or month: to you, to other members, and to addresses that confirm',
    caller: person,
    body: newDigest,
    status: 201,
    reply: digest,
    problems: ['not-found', 'role-insufficient', 'gateway-missing'],
  }),
  read: operation({
    id: 'digests.read',
    command: 'digest show',
    method: 'GET',
    path: `${DIGESTS}/{digest}`,
    summary: 'One digest with its readers',
    caller: person,
    params: oneDigest,
    reply: digest,
    problems: ['not-found'],
  }),
  remove: operation({
    id: 'digests.remove',
    changes: 'digest',
    command: 'digest remove',
    method: 'DELETE',
    path: `${DIGESTS}/{digest}`,
    summary: 'End a digest for all its readers',
    caller: person,
    params: oneDigest,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'role-insufficient'],
  }),
  preview: operation({
    id: 'digests.preview',
    command: 'digest preview',
    method: 'GET',
    path: `${DIGESTS}/{digest}/preview`,
    summary: 'The digest as you would get it now, pictures included',
    caller: person,
    params: oneDigest,
    reply: z.object({
      subject: z.string(),
      html: z.string(),
      text: z.string(),
      files: z.array(z.string()).describe('Names of the attached files'),
    }),
    problems: ['not-found', 'wrong-state'],
  }),
  send: operation({
    id: 'digests.send',
    changes: 'nothing',
    command: 'digest send',
    method: 'POST',
    path: `${DIGESTS}/{digest}/send`,
    summary: 'Send the digest to you now',
    caller: person,
    params: oneDigest,
    reply: z.object({ to: z.string() }),
    problems: ['not-found', 'wrong-state', 'gateway-missing'],
  }),
  confirm: operation({
    id: 'digests.confirm',
    method: 'POST',
    path: '/manage/v1/digest-readers',
    summary: 'Confirm that an address gets a digest, by the link that was mailed there',
    caller: anyone,
    rate: 'sign-in',
    body: z.strictObject({ token: linkToken }),
    reply: z.object({ name: z.string(), address: z.string(), nextAt: time }),
    problems: ['link-refused'],
  }),
  end: operation({
    id: 'digests.end',
    method: 'POST',
    path: '/manage/v1/digest-readers/end',
    summary: 'End a digest for its reader, by the link in it',
    caller: anyone,
    rate: 'sign-in',
    body: z.strictObject({ token: linkToken }),
    reply: z.object({ name: z.string() }),
    problems: ['link-refused'],
  }),
};
