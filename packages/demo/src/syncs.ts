/** Phones that keep records at hand: most are up to date, some have something that waits, or was refused. */
import { randomUUID } from 'node:crypto';
import { createHttpClient, operations } from '@orchard/contract';
import type { FleetDevice } from './fleet.js';
import { HUTS } from './scenario.js';
import type { SeededEnvironment } from './seed.js';

const SCOPES = [
  { collection: 'huts' },
  { collection: 'bulletins' },
  { collection: 'hazards' },
  { collection: 'bookings', filter: "ownerId = me('id')" },
];
const PHONES = 14;

export async function seedSyncs(
  address: string,
  seeded: Pick<SeededEnvironment, 'clientKey' | 'androidKey'>,
  fleet: readonly FleetDevice[],
): Promise<void> {
  for (const [i, { token, deviceId, secret, platform }] of fleet.slice(0, PHONES).entries()) {
    const app = createHttpClient({
      address,
      headers: () => ({ 'orchard-key': platform === 'ios' ? seeded.clientKey : seeded.androidKey }),
    });
    const headers = { authorization: `Bearer ${token}`, 'orchard-device': deviceId, 'orchard-device-secret': secret };
    const [pending, conflicts] = [i % 5 === 3 ? 2 : 0, i % 7 === 4 ? 1 : 0];
    await app.call(operations.sync.pull, { headers, body: { scopes: SCOPES, pending, conflicts } });
    if (i % 2 === 0) await app.call(operations.sync.push, { headers, body: { changes: [bookingOf(i)] } });
  }
}

/** Made on the phone; every fourth asks for more nights than a hut gives. */
const bookingOf = (i: number) => ({
  id: randomUUID(),
  action: 'create' as const,
  collection: 'bookings',
  record: randomUUID(),
  fields: {
    hut: HUTS[i % HUTS.length]?.id ?? 'fellgate',
    arrives: new Date(Date.now() + (i + 2) * 86_400_000).toISOString().slice(0, 10),
    nights: i % 4 === 2 ? 30 : 1 + (i % 3),
    party: 2,
  },
});
