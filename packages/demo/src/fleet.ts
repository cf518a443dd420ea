/** More devices than the three on the wall: registered with the service, subscribed at the push network, and silent. */
import { createECDH, randomBytes } from 'node:crypto';
import { createHttpClient, operations } from '@orchard/contract';
import { seededRandom } from './scenario.js';
import type { Seeded } from './seed.js';

const VERSIONS = ['2.3.2', '2.4.0', '2.4.1'];
const SYSTEMS = { android: ['Android 14', 'Android 15', 'Android 16'], ios: ['iOS 18.6', 'iOS 19.1', 'iOS 19.2'] } as const;
const MODELS = { android: ['Larch 4', 'Larch 5', 'Cobble 2'], ios: ['Tern', 'Tern mini'] } as const;

/** RFC 8030 section 4: the push resource is in the Link header. */
async function subscribe(network: string, applicationServerKey: string): Promise<string> {
  const reply = await fetch(`${network}/subscriptions`, { method: 'POST', body: JSON.stringify({ vapid: applicationServerKey }) });
  return /<([^>]+)>; rel="urn:ietf:params:push"/.exec(reply.headers.get('link') ?? '')?.[1] as string;
}

/** Signs people in and registers a device for each. Some do not allow notifications, and three have left the network unheard. */
export async function registerFleet(
  address: string,
  network: string,
  seeded: Seeded,
): Promise<{ token: string; userId: string; deviceId: string }[]> {
  const random = seededRandom(23);
  const pick = <T>(list: readonly T[]) => list[Math.floor(random() * list.length)] as T;
  const app = createHttpClient({ address, headers: () => ({ 'orchard-key': seeded.clientKey }) });
  const { applicationServerKey } = await app.call(operations.devices.pushKey, {});
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
      const { accessToken, user } = await app.call(operations.users.startSession, {
        body: { email: person.email, password: person.password },
      });
      const allowed = chance > 0.2;
      const ecdh = createECDH('prime256v1');
      const endpoint = i % 16 === 5 ? `${network}/push/left-the-network-${i}` : await subscribe(network, applicationServerKey);
      const id = `fleet-${String(i + 1).padStart(3, '0')}-${user.id.slice(-8)}`;
      const at = <T>(list: readonly T[], share: number) => list[Math.floor(share * list.length)] as T;
      await app.call(operations.devices.put, {
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
          subscription: allowed
            ? { endpoint, keys: { p256dh: ecdh.generateKeys('base64url'), auth: randomBytes(16).toString('base64url') } }
            : null,
        },
      });
      return { token: accessToken, userId: user.id, deviceId: id };
    }),
  );
}
