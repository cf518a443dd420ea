import { type BodyOf, operations, Problem } from '@orchard/contract';
import { bind, type Call, environmentOf, type Naming, type Route } from '../../platform/call.js';
import { type DeviceCall, demandOwn, deviceNamed, findOwnDevice, givenSecret } from './ownership.js';
import type { Parts } from './parts.js';
import { type DeviceRow, DeviceStore } from './store.js';

type Registration = BodyOf<typeof operations.devices.put>;

export function deviceRoutes(parts: Parts): Route[] {
  const store = new DeviceStore(parts);
  const own = operations.devices;

  async function register(call: Call<typeof own.put>) {
    const environment = environmentOf(call);
    const { id } = call.params;
    if (call.body.subscription) parts.webPush.demandAllowed(call.body.subscription.endpoint);
    const before = await store.find(environment, id);
    // With its secret, a device may register again after a sign-out or a change of user.
    if (before) demandOwn(call, before);
    const row = rowFrom(id, call.body, call, before, new Date(parts.now()));
    if (row.endpoint && (row.endpoint !== before?.endpoint || call.body.pushKey))
      row.pushKey = await parts.webPush.keyIdOf(environment, call.body.pushKey);
    await store.save(environment, row);
    parts.changes.wake(environment.id);
    const body = { ...(await store.present(environment, row)), ...(await givenSecret(parts, store, call, row)) };
    return { body, status: before ? 200 : 201 };
  }
  const ownDevice = (call: DeviceCall & { params: { id: string } }) => findOwnDevice(store, call);

  const audited = {
    read: async (call: Naming<{ device: string }>) => {
      const row = await store.find(environmentOf(call), call.params.device);
      return row && store.present(environmentOf(call), row);
    },
  };
  return [
    bind(own.put, register),
    bind(own.read, async (call) => {
      const row = await ownDevice(call);
      return { body: { ...(await store.present(environmentOf(call), row)), ...(await givenSecret(parts, store, call, row)) } };
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
    bind(own.pushKey, async (call) => ({ body: { applicationServerKey: await parts.webPush.publicKey(environmentOf(call)) } })),
    bind(own.list, async (call) => ({ body: await store.list(environmentOf(call), call.query, parts) })),
    bind(own.readManaged, async (call) => ({
      body: await store.present(environmentOf(call), await deviceNamed(store, environmentOf(call), call.params.device)),
    })),
    bind(
      own.patch,
      async (call) => {
        const environment = environmentOf(call);
        const row = await deviceNamed(store, environment, call.params.device);
        const now = new Date(parts.now());
        const { retired, userId } = call.body;
        await store.update(environment, row.id, {
          updatedAt: now,
          ...(userId === null ? { userId: null } : {}),
          ...(retired === undefined
            ? {}
            : { retiredAt: retired ? now : null, retiredReason: retired ? `retired by ${call.member?.name}` : null }),
        });
        parts.changes.wake(environment.id);
        return { body: await store.present(environment, await deviceNamed(store, environment, row.id)) };
      },
      audited,
    ),
    bind(
      own.removeManaged,
      async (call) => {
        if (!(await store.remove(environmentOf(call), call.params.device)))
          throw new Problem('not-found', `There is no device ${call.params.device}.`);
        return { body: undefined };
      },
      audited,
    ),
  ];
}

function rowFrom(id: string, body: Registration, call: Pick<Call, 'holder' | 'user'>, before: DeviceRow | null, now: Date): DeviceRow {
  return {
    id,
    userId: call.user?.id ?? null,
    client: call.holder?.client.name ?? null,
    platform: body.platform,
    appVersion: body.appVersion,
    os: body.os,
    manufacturer: body.manufacturer ?? null,
    model: body.model ?? null,
    locale: body.locale,
    timeZone: body.timeZone,
    country: body.country ?? null,
    region: body.region ?? null,
    permission: body.permission,
    allowsAlert: body.allows?.alert ?? null,
    allowsSound: body.allows?.sound ?? null,
    allowsBadge: body.allows?.badge ?? null,
    endpoint: body.subscription?.endpoint ?? null,
    p256dh: body.subscription?.keys.p256dh ?? null,
    auth: body.subscription?.keys.auth ?? null,
    pushKey: body.subscription ? (before?.pushKey ?? null) : null,
    token: body.pushAddress?.token ?? null,
    tokenStage: body.pushAddress?.stage ?? null,
    pushTrouble: body.pushTrouble ?? null,
    badge: body.badge ?? before?.badge ?? 0,
    retiredAt: null,
    retiredReason: null,
    createdAt: before?.createdAt ?? now,
    updatedAt: now,
    lastSeenAt: now,
    secretHash: before?.secretHash ?? null,
  };
}
