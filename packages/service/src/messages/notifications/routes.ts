import { operations } from '@orchard/contract';
import type { ContentSet } from '@orchard/core/messages';
import { bind, bindBoth, type Call, environmentOf, type Route } from '../../platform/call.js';
import { deviceNamed, findOwnDevice } from '../devices/ownership.js';
import { DeviceStore } from '../devices/store.js';
import { demandFitting } from './audience.js';
import { turn } from './life.js';
import { demandUnsent, rewriteNotification, sendNotification } from './making.js';
import type { Parts } from './parts.js';
import { previewAudience } from './preview.js';
import { ReportStore } from './reports.js';
import type { NotificationStore } from './store.js';

type OneCall = Pick<Call, 'environment'> & { params: { id: string } };

export function notificationRoutes(parts: Parts, store: NotificationStore): Route[] {
  const own = operations.notifications;
  const turning = (verb: 'start' | 'stop' | 'resume') => async (call: OneCall) => {
    await turn(parts, store, environmentOf(call), call.params.id, verb);
    return { body: await store.named(environmentOf(call), call.params.id) };
  };
  return [
    ...bindBoth(own.send, own.sendManaged, (call) => sendNotification(parts, store, call)),
    ...bindBoth(own.rewrite, own.rewriteManaged, (call) => rewriteNotification(parts, store, call)),
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
    ...bindBoth(own.start, own.startManaged, turning('start')),
    ...bindBoth(own.stop, own.stopManaged, turning('stop')),
    ...bindBoth(own.resume, own.resumeManaged, turning('resume')),
    bind(own.list, async (call) => ({ body: await store.list(environmentOf(call), call.query, parts) })),
    bind(own.course, async (call) => {
      await store.named(environmentOf(call), call.params.id);
      return { body: await store.deliveries.course(environmentOf(call), call.params.id) };
    }),
    bind(own.remove, async (call) => {
      const { db } = environmentOf(call);
      demandUnsent(await store.named(environmentOf(call), call.params.id), 'thrown away');
      await store.remove(db, environmentOf(call), call.params.id);
      return { body: undefined };
    }),
    ...deviceRoutes(parts, store),
  ];
}

/** What devices tell of notifications, and what each was sent. */
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
