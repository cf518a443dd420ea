import { timingSafeEqual } from 'node:crypto';
import { type BodyOf, DEVICE_SECRET, operations, Problem } from '@orchard/contract';
import { formatKey } from '@orchard/core';
import { hashKey } from '../access/secrets.js';
import { bind, type Call, type Environment, environmentOf, type Route } from '../http/call.js';
import type { Parts } from '../parts.js';
import { ReportStore } from '../notifications/reports.js';
import { follow } from '../topics/following.js';
import { TopicStore } from '../topics/store.js';
import { type DeviceRow, DeviceStore } from './store.js';

type DeviceCall = Pick<Call, 'environment' | 'holder' | 'user' | 'headers'>;
type Registration = BodyOf<typeof operations.devices.put>;

export function deviceRoutes(parts: Parts): Route[] {
  const store = new DeviceStore(parts);
  const topics = new TopicStore(parts.database);
  const reports = new ReportStore(parts.database);
  const own = operations.devices;

  async function deviceNamed(environment: Environment, id: string): Promise<DeviceRow> {
    const row = await store.find(environment, id);
    if (!row) throw new Problem('not-found', `There is no device ${id} in ${environment.app}/${environment.name}.`);
    return row;
  }
  /**
   * Whoever calls for a device brings its secret. One from before secrets is its user's alone, and nobody's when it has
   * none. Server keys may without. @throws {Problem} access-refused
   */
  function demandOwn(call: DeviceCall, row: DeviceRow): void {
    if (call.holder?.key.kind === 'server') return;
    const refuse = (problem: string) => {
      throw new Problem('access-refused', `${problem} An app that has lost the secret registers as a new device.`);
    };
    const secret = call.headers[DEVICE_SECRET.toLowerCase()];
    if (row.secretHash === null) {
      if (row.userId && row.userId !== call.user?.id) refuse(`The device ${row.id} belongs to a user who is not signed in here.`);
    } else if (typeof secret !== 'string') refuse(`Calls for the device ${row.id} bring its secret, as \`${DEVICE_SECRET}\`.`);
    else if (!isSame(hashKey(secret), row.secretHash)) refuse(`The secret is not that of the device ${row.id}.`);
  }
  /** A secret for a device that has none, to be answered once. */
  async function givenSecret(call: DeviceCall, row: DeviceRow): Promise<{ secret?: string }> {
    if (row.secretHash !== null) return {};
    const secret = formatKey('device', parts.random(16));
    // Of two calls at the same moment only one gives it.
    return (await store.giveSecret(environmentOf(call), row.id, hashKey(secret))) ? { secret } : {};
  }
  async function register(call: Call<typeof own.put>) {
    const environment = environmentOf(call);
    const { id } = call.params;
    if (call.body.subscription) parts.webPush.demandAllowed(call.body.subscription.endpoint);
    const before = await store.find(environment, id);
    // Whoever has its secret may register it anew after a sign-out or change of user.
    if (before) demandOwn(call, before);
    const row = rowFrom(id, call.body, call, before, new Date(parts.now()));
    if (row.endpoint && (row.endpoint !== before?.endpoint || call.body.pushKey))
      row.pushKey = await parts.webPush.keyIdOf(environment.id, call.body.pushKey);
    await store.save(environment, row);
    parts.changes.wake(environment.id);
    const body = { ...(await store.present(environment, row)), ...(await givenSecret(call, row)) };
    return { body, status: before ? 200 : 201 };
  }
  /** The device of a call by an app, if it may be touched by who calls. */
  async function ownDevice(call: DeviceCall & { params: { id: string } }): Promise<DeviceRow> {
    const row = await deviceNamed(environmentOf(call), call.params.id);
    demandOwn(call, row);
    return row;
  }
  const userOf = (row: DeviceRow, call: Pick<Call, 'user'>) => row.userId ?? call.user?.id ?? null;

  return [
    bind(own.put, register),
    bind(own.read, async (call) => {
      const row = await ownDevice(call);
      return { body: { ...(await store.present(environmentOf(call), row)), ...(await givenSecret(call, row)) } };
    }),
    bind(own.report, async (call) => {
      const row = await ownDevice(call);
      const noted = await reports.note(environmentOf(call), row.id, call.body.items, new Date(parts.now()));
      if (noted > 0) parts.changes.wake(environmentOf(call).id);
      return { body: { noted } };
    }),
    bind(own.topics, async (call) => {
      const row = await ownDevice(call);
      return { body: { items: await topics.followedBy(environmentOf(call), row.id, userOf(row, call)) } };
    }),
    bind(own.follow, async (call) => {
      const row = await ownDevice(call);
      await follow(parts, call, call.params.topic, { kind: 'device', id: row.id });
      return { body: undefined };
    }),
    bind(own.unfollow, async (call) => {
      const row = await ownDevice(call);
      await topics.unfollow(environmentOf(call), call.params.topic, [{ kind: 'device', id: row.id }]);
      return { body: undefined };
    }),
    bind(own.remove, async (call) => {
      const row = await ownDevice(call);
      await store.update(environmentOf(call), row.id, {
        retiredAt: new Date(parts.now()),
        retiredReason: 'the app retired it',
        updatedAt: new Date(parts.now()),
      });
      parts.changes.wake(environmentOf(call).id);
      return { body: undefined };
    }),
    bind(own.pushKey, async (call) => ({ body: { applicationServerKey: await parts.webPush.publicKey(environmentOf(call).id) } })),
    bind(own.list, async (call) => ({ body: await store.list(environmentOf(call), call.query, parts) })),
    bind(own.readManaged, async (call) => ({
      body: await store.present(environmentOf(call), await deviceNamed(environmentOf(call), call.params.device)),
    })),
    bind(own.topicsManaged, async (call) => {
      const row = await deviceNamed(environmentOf(call), call.params.device);
      return { body: { items: await topics.followedBy(environmentOf(call), row.id, row.userId) } };
    }),
    bind(own.deliveries, async (call) => {
      await deviceNamed(environmentOf(call), call.params.device);
      return { body: await store.deliveries(environmentOf(call), call.params.device, call.query, parts) };
    }),
    bind(own.patch, async (call) => {
      const environment = environmentOf(call);
      const row = await deviceNamed(environment, call.params.device);
      const now = new Date(parts.now());
      const { retired, userId } = call.body;
      await store.update(environment, row.id, {
        updatedAt: now,
        ...(userId === null ? { userId: null } : {}),
        ...(retired === undefined
          ? {}
          : { retiredAt: retired ? now : null, retiredReason: retired ? `retired by ${call.member?.email}` : null }),
      });
      parts.changes.wake(environment.id);
      return { body: await store.present(environment, await deviceNamed(environment, row.id)) };
    }),
    bind(own.removeManaged, async (call) => {
      if (!(await store.remove(environmentOf(call), call.params.device)))
        throw new Problem('not-found', `There is no device ${call.params.device}.`);
      return { body: undefined };
    }),
  ];
}

const isSame = (a: string, b: string) => timingSafeEqual(Buffer.from(a), Buffer.from(b));

function rowFrom(id: string, body: Registration, call: Pick<Call, 'holder' | 'user'>, before: DeviceRow | null, now: Date): DeviceRow {
  return {
    id,
    userId: call.user?.id ?? null,
    client: call.holder?.client.name ?? null,
    platform: body.platform,
    appVersion: body.appVersion,
    os: body.os,
    model: body.model ?? null,
    locale: body.locale,
    timeZone: body.timeZone,
    country: body.country ?? null,
    permission: body.permission,
    endpoint: body.subscription?.endpoint ?? null,
    p256dh: body.subscription?.keys.p256dh ?? null,
    auth: body.subscription?.keys.auth ?? null,
    pushKey: body.subscription ? (before?.pushKey ?? null) : null,
    token: body.pushAddress?.token ?? null,
    tokenStage: body.pushAddress?.stage ?? null,
    badge: body.badge ?? before?.badge ?? 0,
    retiredAt: null,
    retiredReason: null,
    createdAt: before?.createdAt ?? now,
    updatedAt: now,
    lastSeenAt: now,
    secretHash: before?.secretHash ?? null,
  };
}
