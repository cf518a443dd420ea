/** A notification to everybody: each device gets it once. */
import { createECDH, randomBytes, randomUUID } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { operations } from '@orchard/contract';
import type { Simulators } from '@orchard/simulators';
import { patiently, untilAnswered, type Load, type Place } from './load.js';

/** A notification to many devices: each gets it. */
export function send(place: Place, simulators: Simulators, fill: (rows: unknown[][]) => Promise<void>, devices: number): Load {
  const shown = new Map<string, number>();
  let id = '';
  return {
    prepare: async () => {
      const { applicationServerKey } = (await patiently(place, 'GET', '/push-key', undefined, { 'orchard-key': place.clientKey })).body as {
        applicationServerKey: string;
      };
      const p256dh = createECDH('prime256v1').generateKeys('base64url');
      const auth = randomBytes(16).toString('base64url');
      const rows = Array.from({ length: devices }, (_, i) => {
        const phone = `phone-${String(i).padStart(6, '0')}`;
        const { id: subscription, endpoint } = simulators.network.subscribe(applicationServerKey);
        shown.set(phone, 0);
        simulators.network.listen(subscription, () => shown.set(phone, (shown.get(phone) ?? 0) + 1));
        const now = new Date();
        return [phone, 'hiker-ios', 'ios', '1', 'iOS 19', 'nb-NO', 'Europe/Oslo', 'granted', endpoint, p256dh, auth, now, now, now];
      });
      await fill(rows);
    },
    begin: async () => {
      const headers = { 'idempotency-key': `send-${randomUUID()}` };
      ({ id } = await untilAnswered(() =>
        place.owner.call(operations.notifications.sendManaged, {
          params: place.params,
          headers,
          body: { title: 'Storm', audience: { filter: "id LIKE 'phone-%'" } } as never,
        }),
      ));
    },
    verify: async () => {
      const reached = () => [...shown.values()].filter((times) => times > 0).length;
      for (let waited = 0; reached() < devices && waited < 180_000; waited += 500) await sleep(500);
      const twice = [...shown.values()].filter((times) => times > 1).length;
      const { deliveries } = await place.owner.call(operations.notifications.readManaged, { params: { ...place.params, id } });
      const wrong = reached() === devices ? [] : [`${devices - reached()} devices were not reached (${JSON.stringify(deliveries)})`];
      return {
        load: 'send',
        done: reached(),
        unit: `of ${devices} devices`,
        wrong,
        note: `${twice} shown twice: their network’s answer was on the wire when an instance was killed`,
      };
    },
  };
}
