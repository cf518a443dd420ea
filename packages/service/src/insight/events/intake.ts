/** Events of apps: each is checked, and what is taken is committed before the call is answered. */
import { DEVICE_SECRET, type InsightSettings } from '@orchard/contract';
import type { Json } from '@orchard/core';
import { type CheckedEvent, checkEvent, type EventProblem } from '@orchard/core/insight';
import { LRUCache } from 'lru-cache';
import { demandOwn } from '../../messages/devices/ownership.js';
import type { DeviceRow } from '../../messages/devices/store.js';
import type { Call, Environment } from '../../platform/call.js';
import { environmentOf } from '../../platform/call.js';
import { type Contexts, claimIds, hashOfId, insertEvents, type NewEventRow } from './eventStore.js';
import type { People } from './peopleStore.js';
import { type Plan, plannedIn } from './planStore.js';
import type { Parts } from './parts.js';
import { noteRefusals } from './refusalStore.js';
import { insightSettings } from './settings.js';

export type IntakeCall = Pick<Call, 'environment' | 'holder' | 'user' | 'headers' | 'at'> & {
  body: { sentAt: string; consent?: boolean | undefined; events: unknown[] };
};
type Refusal = { index: number; problem: EventProblem; detail: string };
export type IntakeReply = { taken: number; refused: Refusal[] };
export type IntakeGround = { parts: Parts; people: People; plan: Plan; contexts: Contexts };

/** @throws {Problem} access-refused for the device of another */
export async function takeEvents(ground: IntakeGround, call: IntakeCall): Promise<IntakeReply> {
  const environment = environmentOf(call);
  const settings = await insightSettings.read(environment);
  const device = await deviceOf(ground, call);
  const refused: Refusal[] = [];
  const whole = refusalOfAll(call, settings, device);
  const checked = whole ? [] : await check(ground, call, settings, refused);
  if (whole) refused.push(...call.body.events.map((_, index) => ({ index, ...whole })));
  else if (device) await store(ground, environment, call, device, checked);
  if (refused.length > 0)
    await noteRefusals(
      environment.db,
      call.holder?.client.name ?? '',
      refused.map((one) => ({ ...one, given: call.body.events[one.index] })),
      call.at,
    );
  return { taken: checked.length, refused: refused.sort((a, b) => a.index - b.index) };
}

/** A device as it was some seconds ago: an app that sends much need not be looked up each time. */
const devices = new LRUCache<string, DeviceRow>({ max: 20_000, ttl: 5_000 });

async function deviceOf({ parts }: IntakeGround, call: IntakeCall): Promise<DeviceRow | null> {
  const environment = environmentOf(call);
  const given = call.headers['orchard-device'];
  if (typeof given !== 'string') return null;
  const id = given.slice(0, 64);
  const key = `${environment.id} ${id}`;
  const row = devices.get(key) ?? (await parts.devices.find(environment, id));
  if (row) devices.set(key, row);
  if (row) demandOwn(call, row);
  return row;
}

/** What refuses every event of a call alike. */
function refusalOfAll(call: IntakeCall, settings: InsightSettings, device: DeviceRow | null): Omit<Refusal, 'index'> | null {
  if (settings.consent && call.body.consent !== true)
    return {
      problem: 'consent-missing',
      detail: 'This environment counts people only with their consent. Send `consent: true` once there is.',
    };
  if (device) return null;
  const id = call.headers['orchard-device'];
  return {
    problem: 'device-unregistered',
    detail:
      typeof id === 'string'
        ? `There is no device ${id.slice(0, 64)} here. Register it with PUT /app/v1/devices/{id} first.`
        : `Name the device in the header \`Orchard-Device\`, with its secret in \`${DEVICE_SECRET}\`.`,
  };
}

async function check({ plan }: IntakeGround, call: IntakeCall, settings: InsightSettings, refused: Refusal[]): Promise<CheckedEvent[]> {
  const { db } = environmentOf(call);
  const { sentAt, events } = call.body;
  const planned = plannedIn(await plan.read(db));
  const ground = {
    now: call.at,
    skewMs: call.at - Date.parse(sentAt),
    plannedAs: planned,
    refuseUnplanned: settings.unplanned === 'refuse',
    barred: new Set(settings.barred),
  };
  const results = events.map((event) => checkEvent(event as Json, ground));
  const names = new Set(results.flatMap((result) => (result.ok ? [result.event.name] : [])));
  const tooMany = await plan.tooMany(db, names, call.at);
  return results.flatMap((result, index) => {
    if (!result.ok) {
      refused.push({ index, problem: result.problem, detail: result.detail });
      return [];
    }
    if (!tooMany.has(result.event.name)) return [result.event];
    const detail = `\`${result.event.name}\` is one new name too many: at most 100 a minute, and 2,000 in all. Put what differs into a property.`;
    refused.push({ index, problem: 'too-many-names', detail });
    return [];
  });
}

async function store(
  { parts, people, plan, contexts }: IntakeGround,
  environment: Environment,
  call: IntakeCall,
  device: DeviceRow,
  events: CheckedEvent[],
): Promise<void> {
  const [first] = events;
  if (!first) return;
  const { db } = environment;
  const userId = call.user?.id ?? null;
  const context = await contexts.numberOf(db, builtInOf(device, call.holder?.client.name ?? device.client ?? ''));
  const earliest = events.reduce((least, { at }) => Math.min(least, at), first.at);
  // An id can stand twice in one call, too.
  const byId = new Map(events.map((event) => [hashOfId(event.id).toString('hex'), event]));
  const mark = parts.random(8);
  try {
    await db.transaction(async (on) => {
      const fresh = await claimIds(
        db,
        on,
        [...byId.keys()].map((hash) => Buffer.from(hash, 'hex')),
        mark,
        call.at,
      );
      if (fresh.size === 0) return;
      const person = await people.personOf(db, on, device.id, userId, earliest, call.at);
      const rows = [...byId].flatMap(([hash, event]): NewEventRow[] =>
        fresh.has(hash)
          ? [
              {
                at: event.at,
                receivedAt: call.at,
                person,
                name: event.name,
                visit: event.visit,
                context,
                userId,
                deviceId: device.id,
                properties: Object.keys(event.properties).length > 0 ? JSON.stringify(event.properties) : null,
              },
            ]
          : [],
      );
      await insertEvents(db, on, rows);
    });
  } catch (error) {
    people.forget();
    throw error;
  }
  const hasPlan = (await plan.read(db)).size > 0;
  await plan.note(
    db,
    events.map(({ name, properties, isPlanned }) => ({ name, properties, misfits: hasPlan && !isPlanned })),
    call.at,
  );
  parts.changes.wake(environment.id);
}

/** What the service adds: as the device reported it at its registration, never looked up from an address. */
function builtInOf(device: DeviceRow, client: string): Record<string, string> {
  const { platform, os, manufacturer, model, appVersion, locale, timeZone, country, region } = device;
  const all = { client, platform, os, manufacturer, model, version: appVersion, locale, timeZone, country, region };
  return Object.fromEntries(Object.entries(all).filter((entry): entry is [string, string] => Boolean(entry[1])));
}
