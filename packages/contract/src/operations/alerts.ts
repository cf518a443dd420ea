import { CONDITIONS } from '@orchard/core/words';
import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, listQuery, nothing, operation, page, slug, time } from '../common.js';
import { ROLES } from '../operation.js';
import { timeZone } from './memberWays.js';

const text = (most: number) => z.string().trim().min(1).max(most);

/** What an alert can be about. The first two open incidents; the others are told once each. */
export const ALERT_CAUSES = {
  condition: 'the environment becomes stressed or failing',
  budget: 'an error budget is spent too fast',
  certificate: 'a certificate is about to end',
  gateway: 'a gateway refuses',
  job: 'a job was given up',
  backup: 'a backup failed or is not whole',
  'blocked-origin': 'a web origin is blocked for the first time',
  'new-problem': 'a problem is answered for the first time',
  traffic: 'there are far more or fewer calls than usual at this hour',
} as const;
export type AlertCause = keyof typeof ALERT_CAUSES;

const target = z
  .discriminatedUnion('to', [
    z.strictObject({ to: z.literal('member'), member: text(64).describe('Id') }),
    z.strictObject({ to: z.literal('role'), role: z.enum(ROLES) }),
    z.strictObject({ to: z.literal('on-call'), rota: slug }),
    z.strictObject({ to: z.literal('webhook'), webhook: slug }),
  ])
  .describe('A member, everybody of a role, whoever is on call, or a webhook');
export type AlertTarget = z.infer<typeof target>;

export const alertRule = z
  .strictObject({
    name: slug,
    on: z.enum(Object.keys(ALERT_CAUSES) as [AlertCause, ...AlertCause[]]),
    from: z.enum(['stressed', 'failing']).default('failing').describe('Of `condition`: how bad it must be'),
    steps: z
      .array(z.array(target).min(1).max(20))
      .min(1)
      .max(5)
      .describe('Who is told; each step after the one before was not acknowledged'),
    nextAfterMin: z.int().min(1).max(1_440).default(15).describe('Minutes until the next step'),
    remindAfterMin: z.int().min(5).max(1_440).default(30).describe('Minutes between reminders until somebody acknowledges'),
  })
  .meta({ id: 'AlertRule' });
export type AlertRule = z.infer<typeof alertRule>;

const rota = z
  .strictObject({
    name: slug,
    timeZone,
    members: z.array(text(64)).min(1).max(50).describe('Ids of members, in turn'),
    startsOn: z.iso.date().describe('The local day on which the first turn began'),
    handOver: z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'A time of the day, such as 09:00.'),
    days: z.int().min(1).max(28).describe('Length of a turn'),
    replacements: z
      .array(z.strictObject({ date: z.iso.date(), member: text(64) }))
      .max(100)
      .default([]),
  })
  .meta({ id: 'Rota' });
export type RotaDocument = z.infer<typeof rota>;

const onCall = z.object({
  rota: z.string(),
  member: z.object({ id: z.string(), name: z.string() }).nullable(),
  replaces: z.object({ id: z.string(), name: z.string() }).nullable(),
  until: time,
});

const webhook = z.object({
  name: slug,
  url: z.string(),
  lastStatus: z.int().nullable(),
  lastFailure: z.string().nullable(),
  lastAt: time.nullable(),
});

const settings = z
  .object({ rules: z.array(alertRule), rotas: z.array(rota), webhooks: z.array(webhook), onCall: z.array(onCall) })
  .meta({ id: 'AlertSettings' });
export type AlertSettings = z.infer<typeof settings>;

const happening = z.object({
  at: time,
  kind: z.enum(['opened', 'worse', 'better', 'alerted', 'reminded', 'failed-to-alert', 'acknowledged', 'note', 'closed']),
  text: z.string(),
  by: actor,
});
export type Happening = z.infer<typeof happening>;

const incident = z
  .object({
    id: z.string(),
    title: z.string(),
    subject: z.string().describe('`condition`, or `budget` and the name of an objective'),
    condition: z.enum(CONDITIONS).describe('The worst so far'),
    openedAt: time,
    closedAt: time.nullable(),
    acknowledgedAt: time.nullable(),
    acknowledgedBy: actor.nullable(),
  })
  .meta({ id: 'Incident' });
export type Incident = z.infer<typeof incident>;

const detail = incident.extend({
  happenings: z.array(happening).describe('Oldest first'),
  routes: z
    .array(
      z.object({ method: z.string(), route: z.string(), calls: z.int(), failed: z.int(), refused: z.int(), p95Ms: z.number().nullable() }),
    )
    .describe('The worst routes of that time'),
  changes: z
    .array(z.object({ at: time, actor, summary: z.string(), subject: z.string(), id: z.string() }))
    .nullable()
    .describe('What the team changed from half an hour before; null for those who may not read the audit'),
});
export type IncidentDetail = z.infer<typeof detail>;

const planned = z.object({ id: z.string(), from: time, until: time, why: z.string(), by: actor }).meta({ id: 'PlannedWork' });
export type PlannedWork = z.infer<typeof planned>;

const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;
const one = environmentParams.extend({ incident: z.string().max(64) });

export const alertOperations = {
  read: operation({
    id: 'alerts.read',
    command: 'alert show',
    method: 'GET',
    path: `${ENVIRONMENT}/alerts`,
    summary: 'Who is told of what: rules, rotas, webhooks, and who is on call now',
    caller: viewer,
    params: environmentParams,
    reply: settings,
  }),
  replace: operation({
    id: 'alerts.replace',
    changes: 'alerts',
    command: 'alert set <json>',
    method: 'PUT',
    path: `${ENVIRONMENT}/alerts`,
    summary: 'Replace the rules and rotas',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ rules: z.array(alertRule).max(100), rotas: z.array(rota).max(20).default([]) }),
    reply: settings,
    problems: ['not-found'],
  }),
  addWebhook: operation({
    id: 'alerts.addWebhook',
    changes: 'alerts',
    command: 'webhook add <name> <url>',
    method: 'POST',
    path: `${ENVIRONMENT}/alerts/webhooks`,
    summary: 'Add a webhook; its secret, for the signature of RFC 9421, is shown once',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ name: slug, url: z.url({ protocol: /^https?$/ }).max(1_000) }),
    status: 201,
    reply: webhook.extend({ secret: z.string() }),
    problems: ['already-exists'],
  }),
  removeWebhook: operation({
    id: 'alerts.removeWebhook',
    changes: 'alerts',
    command: 'webhook remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/alerts/webhooks/{webhook}`,
    summary: 'Remove a webhook',
    caller: maintainer,
    params: environmentParams.extend({ webhook: slug }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  test: operation({
    id: 'alerts.test',
    changes: 'alerts',
    command: 'alert test',
    method: 'POST',
    path: `${ENVIRONMENT}/alerts/{rule}/test`,
    summary: 'Send a test to everybody of the first step of a rule now',
    caller: maintainer,
    params: environmentParams.extend({ rule: slug }),
    reply: z.object({ items: z.array(z.object({ to: z.string(), ok: z.boolean(), detail: z.string() })) }),
    problems: ['not-found'],
  }),
};

export const incidentOperations = {
  list: operation({
    id: 'incidents.list',
    command: 'incident list',
    method: 'GET',
    path: `${ENVIRONMENT}/incidents`,
    summary: 'Incidents, latest first',
    caller: viewer,
    params: environmentParams,
    query: listQuery,
    reply: page(incident),
    problems: ['malformed-filter'],
  }),
  read: operation({
    id: 'incidents.read',
    command: 'incident show',
    method: 'GET',
    path: `${ENVIRONMENT}/incidents/{incident}`,
    summary: 'One incident with all that happened in it',
    caller: viewer,
    params: one,
    reply: detail,
    problems: ['not-found'],
  }),
  acknowledge: operation({
    id: 'incidents.acknowledge',
    changes: 'incident',
    command: 'incident acknowledge',
    method: 'POST',
    path: `${ENVIRONMENT}/incidents/{incident}/acknowledgement`,
    summary: 'Acknowledge an incident: nobody else is woken',
    caller: developer,
    params: one,
    reply: incident,
    problems: ['not-found'],
  }),
  note: operation({
    id: 'incidents.note',
    changes: 'incident',
    command: 'incident note <text>',
    method: 'POST',
    path: `${ENVIRONMENT}/incidents/{incident}/notes`,
    summary: 'Add a note to an incident',
    caller: developer,
    params: one,
    body: z.strictObject({ text: text(2_000) }),
    status: 201,
    reply: incident,
    problems: ['not-found'],
  }),
  acknowledgeByLink: operation({
    id: 'incidents.acknowledgeByLink',
    method: 'POST',
    path: '/manage/v1/acknowledgements',
    summary: 'Acknowledge an incident by the address in an alert, without signing in',
    caller: { kind: 'anyone' },
    rate: 'sign-in',
    body: z.strictObject({ token: z.string().max(400) }),
    reply: z.object({ app: z.string(), environment: z.string(), title: z.string(), acknowledgedAt: time }),
    problems: ['link-refused'],
  }),
  planned: operation({
    id: 'plannedWork.list',
    command: 'planned-work list',
    method: 'GET',
    path: `${ENVIRONMENT}/planned-work`,
    summary: 'Planned work: nobody is alerted, and no error budget is spent',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(planned) }),
  }),
  plan: operation({
    id: 'plannedWork.add',
    changes: 'planned work',
    command: 'planned-work add',
    method: 'POST',
    path: `${ENVIRONMENT}/planned-work`,
    summary: 'Announce planned work',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ from: time, until: time, why: text(500) }),
    status: 201,
    reply: planned,
  }),
  unplan: operation({
    id: 'plannedWork.remove',
    changes: 'planned work',
    command: 'planned-work remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/planned-work/{work}`,
    summary: 'Remove planned work',
    caller: maintainer,
    params: environmentParams.extend({ work: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
