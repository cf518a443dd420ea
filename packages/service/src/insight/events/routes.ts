import { type ArrivedEvent, operations } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { bind, type Call, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { latestEvents, propertiesOf } from './eventStore.js';
import { type IntakeGround, takeEvents } from './intake.js';
import { listRefusals } from './refusalStore.js';
import { insightSettings } from './settings.js';
import { BUILT_IN, eventTypes } from '@orchard/core/insight';

export function eventRoutes(ground: IntakeGround): Route[] {
  const { parts, plan } = ground;
  const own = operations.events;
  const kindNamed = async (call: Naming<{ event: string }>) =>
    (await plan.kinds(environmentOf(call).db)).find(({ name, planned }) => planned && name === call.params.event) ?? null;
  return [
    bind(own.bring, async (call) => ({ body: await takeEvents(ground, call) })),
    bind(own.list, async (call) => ({ body: { items: await plan.kinds(environmentOf(call).db), builtIn: [...BUILT_IN] } })),
    bind(own.types, async (call) => {
      const { app, name, db } = environmentOf(call);
      const planned = [...(await plan.read(db))].map(([event, one]) => ({ name: event, ...one }));
      call.response.status(200).setHeader('content-type', 'text/plain; charset=utf-8');
      call.response.end(eventTypes(`${app}/${name}`, planned));
      return 'streaming';
    }),
    bind(
      own.plan,
      async (call) => {
        const { db } = environmentOf(call);
        await plan.write(db, call.params.event, call.body);
        const kind = (await plan.kinds(db)).find(({ name }) => name === call.params.event);
        return { body: kind as NonNullable<typeof kind> };
      },
      { read: kindNamed },
    ),
    bind(
      own.unplan,
      async (call) => {
        await plan.remove(environmentOf(call).db, call.params.event);
        return { body: undefined };
      },
      { read: kindNamed },
    ),
    bind(own.refusals, async (call) => ({ body: { items: await listRefusals(environmentOf(call).db) } })),
    bind(own.latest, async (call) => ({ body: { items: await latest(ground, call) } })),
    bind(own.settings, async (call) => ({ body: await insightSettings.read(environmentOf(call)) })),
    bind(
      own.changeSettings,
      async (call) => {
        const environment = environmentOf(call);
        insightSettings.forget(environment);
        const changes = Object.fromEntries(Object.entries(call.body).filter(([, value]) => value !== undefined));
        const next = { ...(await insightSettings.read(environment)), ...changes };
        await insightSettings.write(environment, next, new Date(parts.now()));
        return { body: next };
      },
      { subject: () => 'insight', read: (call) => insightSettings.read(environmentOf(call)) },
    ),
  ];
}

type LatestCall = Pick<Call, 'environment'> & { query: { device?: string | undefined; user?: string | undefined; limit: number } };

async function latest({ contexts }: IntakeGround, call: LatestCall): Promise<ArrivedEvent[]> {
  const { db } = environmentOf(call);
  const rows = await latestEvents(db, call.query);
  const known = await contexts.read(db, new Set(rows.map(({ context }) => context)));
  return rows.map((row) => ({
    at: row.at.toISOString(),
    receivedAt: row.receivedAt.toISOString(),
    name: row.name,
    person: row.person,
    userId: row.userId,
    deviceId: row.deviceId,
    properties: propertiesOf(row, known.get(row.context) ?? {}) as JsonObject,
  }));
}
