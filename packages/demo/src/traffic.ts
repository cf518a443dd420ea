/** Hikers who use the app while the demo runs: a few real calls a second. */
import { createHttpClient, operations } from '@orchard/contract';
import { HUTS, seededRandom } from './scenario.js';

const CALLS_A_SECOND = 0.3;
type Keys = { clientKey: string; serverKey: string };
type Person = { email: string; password: string };

const inAWeek = () => new Date(Date.now() + 6e8).toISOString().slice(0, 10);

/** Starts the traffic. @returns a function that ends it */
export function startTraffic(address: string, { clientKey, serverKey }: Keys, people: Person[]): () => void {
  const random = seededRandom(Date.now() & 0xffff);
  const pick = <T>(list: readonly T[]) => list[Math.floor(random() * list.length)] as T;
  const tokens = new Map<string, { token: string; until: number }>();
  const app = createHttpClient({ address, headers: () => ({ 'orchard-key': clientKey, 'user-agent': 'QuillfellHiker/2.6.1 (iOS 19.2)' }) });

  const office = createHttpClient({ address, headers: () => ({ 'orchard-key': serverKey, 'user-agent': 'QuillfellOffice/1.4' }) });

  /** Somebody books by phone: the booking and the bunks it takes are one call, and a full hut refuses both. */
  const bookByPhone = (hut: string, party: number): Promise<unknown> =>
    office.call(operations.batches.app, {
      body: {
        actions: [
          { action: 'create', collection: 'bookings', record: { hut, arrives: inAWeek(), nights: 1, party, state: 'held' } },
          { action: 'patch', collection: 'huts', id: hut, record: { _add: { freeBunks: -party } } },
        ],
      },
    });

  async function tokenOf(person: Person): Promise<string> {
    const known = tokens.get(person.email);
    if (known && known.until > Date.now() + 30_000) return known.token;
    const { accessToken, accessTokenExpiresAt } = await app.call(operations.users.startSession, {
      body: { email: person.email, password: person.password },
    });
    tokens.set(person.email, { token: accessToken, until: Date.parse(accessTokenExpiresAt) });
    return accessToken;
  }
  async function act(): Promise<void> {
    const headers = { authorization: `Bearer ${await tokenOf(pick(people))}` };
    const hut = pick(HUTS);
    const share = random();
    if (share < 0.45)
      await app.call(operations.records.list, {
        params: { collection: 'huts' },
        query: { filter: `region = '${hut.region}'`, limit: 20 },
        headers,
      });
    else if (share < 0.55)
      await app.call(operations.endpoints.get, { params: { path: `huts/${hut.id}/${random() < 0.5 ? 'today' : 'page'}` }, headers });
    else if (share < 0.6)
      await app.call(operations.upstreamCalls.get, { params: { upstream: 'weather', path: `forecasts/${hut.id}` }, headers });
    else if (share < 0.75) await app.call(operations.records.read, { params: { collection: 'bulletins', id: 'ridge-weather' }, headers });
    else if (share < 0.85) await app.call(operations.users.readMe, { headers });
    else if (share < 0.93)
      await app.call(operations.records.create, {
        params: { collection: 'bookings' },
        body: {
          hut: hut.id,
          arrives: inAWeek(),
          nights: 1 + Math.floor(random() * 3),
          party: 2,
          state: 'held',
        },
        headers,
      });
    else if (share < 0.95) await bookByPhone(hut.id, 1 + Math.floor(random() * 4));
    else if (share < 0.97) await app.call(operations.records.read, { params: { collection: 'huts', id: `${hut.id}x` }, headers });
    else await app.call(operations.records.create, { params: { collection: 'bookings' }, body: { hut: hut.id, nights: 'two' }, headers });
  }
  // Some calls are refused on purpose; a stopping service refuses all of them.
  const timer = setInterval(() => void act().catch(() => undefined), 1000 / CALLS_A_SECOND);
  return () => clearInterval(timer);
}
