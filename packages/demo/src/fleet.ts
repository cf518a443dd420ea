/**
 * Further devices beside the three on the wall: registered with the service and at their push network, but without a page.
 */
import { createHttpClient, operations } from '@orchard/contract';
import { PROJECT, STORE_ID, seededRandom } from './scenario.js';
import type { SeededEnvironment } from './seed.js';

export type FleetDevice = { token: string; userId: string; deviceId: string; secret: string; platform: 'ios' | 'android'; country: string };
const VERSIONS = ['2.5.0', '2.6.0', '2.6.1'];
const SYSTEMS = { android: ['Android 14', 'Android 15', 'Android 16'], ios: ['iOS 18.6', 'iOS 19.1', 'iOS 19.2'] } as const;
const MODELS = { android: ['Larch 4', 'Larch 5', 'Cobble 2'], ios: ['Tern', 'Tern mini'] } as const;

/** A phone's address at the push network of its platform. */
async function addressOn(simulators: string, platform: 'ios' | 'android'): Promise<string> {
  const query = platform === 'ios' ? `at=cairn&packageIdentifier=${STORE_ID}&stage=trial` : `at=tarn&project=${PROJECT}`;
  const [token] = (await (await fetch(`${simulators}/desk/phones?count=1&${query}`)).json()) as string[];
  return token as string;
}

/**
 * Signs people in and registers a device for each. Some do not allow notifications, and three are gone from their network.
 */
export async function registerFleet(address: string, network: string, seeded: SeededEnvironment): Promise<FleetDevice[]> {
  const random = seededRandom(23);
  const pick = <T>(list: readonly T[]) => list[Math.floor(random() * list.length)] as T;
  const clients = {
    ios: createHttpClient({ address, headers: () => ({ 'orchard-key': seeded.clientKey }) }),
    android: createHttpClient({ address, headers: () => ({ 'orchard-key': seeded.androidKey }) }),
  };
  const plans = seeded.people.slice(1).map((person, i) => ({
    person,
    i,
    platform: pick(['android', 'android', 'ios'] as const),
    appVersion: pick(VERSIONS),
    chance: random(),
    os: random(),
    model: random(),
  }));
  return Promise.all(
    plans.map(async ({ person, i, platform, appVersion, chance, os, model }) => {
      const app = clients[platform];
      const { accessToken, user } = await app.call(operations.users.startSession, {
        body: { email: person.email, password: person.password },
      });
      const allowed = chance > 0.2;
      const token = i % 16 === 5 ? `${String(i).padStart(4, '0')}ffff00000000` : await addressOn(network, platform);
      const id = `fleet-${String(i + 1).padStart(3, '0')}-${user.id.slice(-8)}`;
      const country = person.locale.split('-')[1] as string;
      const at = <T>(list: readonly T[], share: number) => list[Math.floor(share * list.length)] as T;
      const { secret = '' } = await app.call(operations.devices.put, {
        params: { id },
        headers: { authorization: `Bearer ${accessToken}` },
        body: {
          platform,
          appVersion,
          os: at(SYSTEMS[platform], os),
          model: at(MODELS[platform], model),
          locale: person.locale,
          timeZone: person.timeZone,
          permission: allowed ? 'granted' : chance > 0.08 ? 'denied' : 'unasked',
          // One in six has switched sounds off, and one in nine the number on the icon.
          ...(platform === 'ios' && allowed ? { allows: { alert: true, sound: i % 6 !== 2, badge: i % 9 !== 4 } } : {}),
          country,
          pushAddress: allowed ? { token, ...(platform === 'ios' ? { stage: 'trial' as const } : {}) } : null,
        },
      });
      return { token: accessToken, userId: user.id, deviceId: id, secret, platform, country };
    }),
  );
}
