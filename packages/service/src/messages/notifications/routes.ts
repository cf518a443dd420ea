import { type Notification, operations } from '@orchard/contract';
import type { ContentSet } from '@orchard/core/messages';
import { orNone } from '../../platform/audit/audit.js';
import { bind, bindBoth, type Call, environmentOf, type Route } from '../../platform/call.js';
import { deviceNamed, findOwnDevice } from '../devices/ownership.js';
import { DeviceStore } from '../devices/store.js';
import { demandFitting } from './audienceSql.js';
import { turn } from './life.js';
import { demandUnsent, rewriteNotification, sendNotification } from './making.js';
import type { Parts } from './parts.js';
import { previewAudience } from './preview.js';
import { ReportStore } from './reportStore.js';
import type { NotificationStore } from './store.js';

type OneCall = Pick<Call, 'environment'> & { params: { id: string } };

export function notificationRoutes(parts: Parts, store: NotificationStore): Route[] {
  const own = operations.notifications;
  const turning = (verb: 'start' | 'stop' | 'resume') => async (call: OneCall) => {
    await turn(parts, store, environmentOf(call), call.params.id, verb);
    return { body: await store.named(environmentOf(call), call.params.id) };
  };
  /** An audience may name people by number or address, so an entry keeps what was said and not to whom. */
  const brief = ({ id, title, way, state, startAt, createdAt }: Notification) => ({ id, title, way, state, startAt, createdAt });
  const audited = {
    read: async (call: OneCall) => {
      const found = await orNone(store.named(environmentOf(call), call.params.id));
      return found && brief(found);
    },
  };
  return [
    ...bindBoth(own.send, own.sendManaged, (call) => sendNotification(parts, store, call), { after: brief }),
    ...bindBoth(own.rewrite, own.rewriteManaged, (call) => rewriteNotification(parts, store, call), { after: brief }),
    ...bindBoth(own.preview, own.previewManaged, async (call) => {
      const { audience, way, ...content } = call.body;
      demandFitting(way, audience);
      return { body: await previewAudience(parts, environmentOf(call), way, audience, content as ContentSet) };
    }),
    ...bindBoth(own.read, own.readManaged, async (call) => ({ body: await store.named(environmentOf(call), call.params.id) })),
    ...bindBoth(own.deliveries, own.deliveriesManaged, async (call) => {
      await store.named(environmentOf(call), call.params.id);
      return { body: await store.deliveries.list(environmentOf(call), call.params.id, call.query, parts) };
    }),
    ...bindBoth(own.start, own.startManaged, turning('start'), audited),
    ...bindBoth(own.stop, own.stopManaged, turning('stop'), audited),
    ...bindBoth(own.resume, own.resumeManaged, turning('resume'), audited),
    bind(own.list, async (call) => ({ body: await store.list(environmentOf(call), call.query, parts) })),
    bind(own.course, async (call) => {
      await store.named(environmentOf(call), call.params.id);
      return { body: await store.deliveries.course(environmentOf(call), call.params.id) };
    }),
    bind(
      own.remove,
      async (call) => {
        const { db } = environmentOf(call);
        demandUnsent(await store.named(environmentOf(call), call.params.id), 'deleted');
        await store.remove(db, environmentOf(call), call.params.id);
        return { body: undefined };
      },
      audited,
    ),
    ...deviceRoutes(parts, store),
  ];
}

/** Reports of devices on notifications, and the notifications sent to each. */
function deviceRoutes(parts: Parts, store: NotificationStore): Route[] {
  const own = operations.devices;
  const devices = new DeviceStore(parts);
  const reports = new ReportStore();
  return [
    bind(own.deliveries, async (call) => {
      const { id } = await deviceNamed(devices, environmentOf(call), call.params.device);
      return { body: await store.deliveries.ofDevice(environmentOf(call), id, call.query, parts) };
    }),
    bind(own.report, async (call) => {
      const { id } = await findOwnDevice(devices, call);
      const noted = await reports.note(environmentOf(call), id, call.body.items, new Date(parts.now()));
      if (noted > 0) parts.changes.wake(environmentOf(call).id);
      return { body: { noted } };
    }),
  ];
}
