import { allOperations, operations, Problem } from '@orchard/contract';
import { addTally, emptyTally, quantiles, STEPS, type Tally, tallyOf } from '@orchard/core';
import { roleReaches } from '../../platform/access/memberDirectory.js';
import { orNone } from '../../platform/audit/audit.js';
import { entriesBetween } from '../../platform/audit/auditStore.js';
import { actorOf, authorOf, bind, type Call, environmentOf, type Naming, type Route } from '../../platform/call.js';
import type { Environment } from '../../platform/call.js';
import { addPlanned, listPlanned, removePlanned } from '../objectives/plannedStore.js';
import { readCounts } from '../telemetry/countStore.js';
import { demandIncident, happeningsOf, listIncidents, presentIncident } from './incidentStore.js';
import type { Incidents } from './incidents.js';
import type { Parts } from './parts.js';
import type { AlertSender } from './sending.js';
import type { AlertRules } from './settings.js';

type Room = { parts: Parts; rules: AlertRules; incidents: Incidents; sender: AlertSender };

export const alertRoutes = (room: Room): Route[] => [...ruleRoutes(room), ...incidentRoutes(room), ...plannedRoutes(room)];

function ruleRoutes({ rules, sender }: Room): Route[] {
  const own = operations.alerts;
  const audited = { subject: () => 'alerts', read: (call: Pick<Call, 'environment'>) => rules.read(environmentOf(call)) };
  return [
    bind(own.read, async (call) => ({ body: await rules.read(environmentOf(call)) })),
    bind(own.replace, async (call) => ({ body: await rules.replace(environmentOf(call), call.body) }), audited),
    bind(own.addWebhook, async (call) => ({ body: await rules.addWebhook(environmentOf(call), call.body.name, call.body.url) }), {
      ...audited,
      after: ({ secret: _, ...shown }) => shown,
    }),
    bind(
      own.removeWebhook,
      async (call) => ({ body: (await rules.removeWebhook(environmentOf(call), call.params.webhook)) as undefined }),
      audited,
    ),
    bind(
      own.test,
      async (call) => {
        const environment = environmentOf(call);
        const rule = (await rules.stored(environment)).rules.find(({ name }) => name === call.params.rule);
        if (!rule) throw new Problem('not-found', `There is no rule \`${call.params.rule}\`. \`orchard alert show\` lists them.`);
        const place = `${environment.app}/${environment.name}`;
        const message = {
          title: `A test of the rule ${rule.name}`,
          body: `This is what an alert of ${place} looks like. Nothing is wrong.`,
          link: `/${place}/condition`,
          urgent: true,
          webhook: { type: 'test', app: environment.app, environment: environment.name, rule: rule.name },
        };
        const told = await sender.send(environment, rule.steps[0] ?? [], message, null);
        return { body: { items: told.map(({ to, ok, detail }) => ({ to, ok, detail })) } };
      },
      { as: 'apart', subject: (call) => `test of ${call.params.rule}` },
    ),
  ];
}

function incidentRoutes({ parts, incidents }: Room): Route[] {
  const own = operations.incidents;
  const audited = {
    read: async (call: Naming<{ incident: string }>) => {
      const environment = environmentOf(call);
      const row = await orNone(demandIncident(environment, call.params.incident));
      return row && presentIncident(environment, row);
    },
  };
  return [
    bind(own.list, async (call) => ({ body: await listIncidents(environmentOf(call), call.query, parts) })),
    bind(own.read, async (call) => ({ body: await readInFull(call) })),
    bind(
      own.acknowledge,
      async (call) => {
        const environment = environmentOf(call);
        const row = await incidents.acknowledge(environment, call.params.incident, actorOf(call), 'in the console or by command');
        return { body: presentIncident(environment, row) };
      },
      audited,
    ),
    bind(
      own.note,
      async (call) => {
        const environment = environmentOf(call);
        return {
          body: presentIncident(environment, await incidents.note(environment, call.params.incident, actorOf(call), call.body.text)),
        };
      },
      audited,
    ),
    bind(own.acknowledgeByLink, async (call) => {
      const found = await incidents.acknowledgeByLink(call.body.token);
      if (!found) throw new Problem('link-refused', 'This address is not valid any more. Sign in and open the incident.');
      const { environment, incident } = found;
      const acknowledgedAt = (incident.acknowledgedAt ?? new Date(parts.now())).toISOString();
      return { body: { app: environment.app, environment: environment.name, title: incident.title, acknowledgedAt } };
    }),
  ];
}

function plannedRoutes({ parts }: Room): Route[] {
  const own = operations.incidents;
  return [
    bind(own.planned, async (call) => ({ body: { items: await listPlanned(environmentOf(call)) } })),
    bind(own.plan, async (call) => {
      const { from, until, why } = call.body;
      const row = { id: parts.newId(), from: new Date(from), until: new Date(until), why, by: authorOf(call) };
      return { body: await addPlanned(environmentOf(call), row) };
    }),
    bind(own.unplan, async (call) => ({ body: (await removePlanned(environmentOf(call), call.params.work)) as undefined }), {
      read: async (call) => (await listPlanned(environmentOf(call))).find(({ id }) => id === call.params.work) ?? null,
    }),
  ];
}

const BEFORE_MS = 30 * STEPS.minute;
const SUMMARIES = new Map(allOperations.map(({ id, summary }) => [id, summary]));

/** An incident with what happened in it, the routes that fared worst, and what was changed just before. */
async function readInFull(call: Pick<Call, 'environment' | 'role'> & { params: { incident: string } }) {
  const environment = environmentOf(call);
  const incident = await demandIncident(environment, call.params.incident);
  const from = incident.openedAt.getTime();
  const until = incident.closedAt?.getTime() ?? from + STEPS.day;
  return {
    ...presentIncident(environment, incident),
    happenings: await happeningsOf(environment, incident.id),
    routes: await worstRoutes(environment, from - 5 * STEPS.minute, until),
    changes: roleReaches(call.role ?? 'viewer', 'maintainer') ? await changesIn(environment, from - BEFORE_MS, until) : null,
  };
}

const MOST_ROUTES = 8;

async function worstRoutes({ db }: Environment, from: number, until: number) {
  const routes = new Map<string, Tally>();
  for (const count of await readCounts(db, 'minute', from, until, { kind: 'call' })) {
    const name = `${count.method} ${count.route}`;
    let tally = routes.get(name);
    if (!tally) routes.set(name, (tally = emptyTally()));
    addTally(tally, tallyOf(count, []));
  }
  return [...routes]
    .sort(([, a], [, b]) => b.failed - a.failed || b.refused / b.calls - a.refused / a.calls || b.sumUs / b.calls - a.sumUs / a.calls)
    .slice(0, MOST_ROUTES)
    .map(([name, { calls, failed, refused, histogram }]) => {
      const [method = '', route = ''] = name.split(' ');
      const [p95] = quantiles(histogram, [0.95]);
      return { method, route, calls, failed, refused, p95Ms: p95 === null || p95 === undefined ? null : Math.round(p95) / 1000 };
    });
}

async function changesIn({ db, actors }: Environment, from: number, until: number) {
  const entries = await entriesBetween(db, new Date(from), new Date(until));
  return entries.map(({ id, at, actor, action, subject }) => ({
    id,
    at,
    actor: actors.show(actor),
    summary: SUMMARIES.get(action) ?? action,
    subject,
  }));
}
