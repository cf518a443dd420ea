/** Fills a fresh installation with the scenario, through the API like anybody else. */
import { createHttpClient, type HttpClient, operations, Problem, SCOPES } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { APP, HIKER, HUTS, type Hiker, hikers, MEMBERS, OWNER, seededRandom } from './scenario.js';

const PEOPLE = 48;
const DAY_MS = 86_400_000;
const EVERYONE_READS = { read: 'TRUE', create: 'FALSE', update: 'FALSE', delete: 'FALSE' };
const SIGNED_IN = "me('id') IS NOT NULL";
const OWNER_RULE = "ownerId = me('id')";

export type Seeded = {
  clientKey: string;
  webKey: string;
  serverKey: string;
  live: { clientKey: string; serverKey: string };
  people: (Hiker & { id: string })[];
};

/** Signs in as the owner, making the account when the installation is new. */
export async function signInOwner(address: string, setupAddress: string | null): Promise<HttpClient> {
  const anyone = createHttpClient({ address });
  if (setupAddress) {
    const token = new URL(setupAddress).searchParams.get('token') ?? '';
    await anyone.call(operations.members.setUp, { body: { token, ...OWNER } });
  }
  const { token } = await anyone.call(operations.members.signIn, { body: { email: OWNER.email, password: OWNER.password, as: 'token' } });
  return createHttpClient({ address, headers: () => ({ authorization: `Bearer ${token}` }) });
}

const unless = (problem: Problem['problem']) => (error: unknown) => {
  if (!(error instanceof Problem) || error.problem !== problem) throw error;
};

/** Makes app, members, clients, keys, collections, people and records. What a killed attempt left is removed first. */
export async function seed(owner: HttpClient, now: number, progress: (text: string) => void): Promise<Seeded> {
  await owner.call(operations.apps.remove, { params: { app: APP.name } }).catch(unless('not-found'));
  await owner.call(operations.apps.create, { body: APP });
  for (const member of MEMBERS)
    await owner
      .call(operations.members.add, { body: { ...member, password: OWNER.password, app: APP.name } })
      .catch(unless('already-exists'));
  const live = await seedClients(owner, 'live');
  const dev = await seedClients(owner, 'dev');
  for (const environment of ['live', 'dev']) await seedCollections(owner, environment);
  progress('people');
  const people = await seedPeople(owner);
  progress('records');
  await seedRecords(owner, people, now);
  return { ...dev, live: { clientKey: live.clientKey, serverKey: live.serverKey }, people };
}

async function seedClients(owner: HttpClient, environment: string) {
  const params = { app: APP.name, environment };
  const create = (body: { name: string; kind: 'ios' | 'android' | 'web' | 'server'; storeId?: string; origins?: string[] }) =>
    owner.call(operations.clients.create, { params, body });
  const ios = await create({ name: 'hiker-ios', kind: 'ios', storeId: 'example.quillfell.hiker' });
  await create({ name: 'hiker-android', kind: 'android', storeId: 'example.quillfell.hiker' });
  const web = await create({ name: 'hiker-web', kind: 'web', origins: ['https://hiker.quillfell.example'] });
  await create({ name: 'back-office', kind: 'server' });
  const server = await owner.call(operations.clients.createKey, {
    params: { ...params, client: 'back-office' },
    body: { name: 'office', scopes: [...SCOPES] },
  });
  await owner.call(operations.clients.createKey, {
    params: { ...params, client: 'back-office' },
    body: { name: 'weather office', scopes: ['records:write'] },
  });
  return { clientKey: ios.keys[0]?.key as string, webKey: web.keys[0]?.key as string, serverKey: server.key as string };
}

async function seedCollections(owner: HttpClient, environment: string): Promise<void> {
  const params = { app: APP.name, environment };
  const make = (name: string, rules: Record<string, string>, fields: Record<string, string>) =>
    owner.call(operations.collections.create, {
      params,
      body: { name, rules, fields: Object.entries(fields).map(([field, type]) => ({ name: field, type: type as 'text' })) },
    });
  await make('huts', EVERYONE_READS, {
    name: 'text',
    region: 'text',
    position: 'place',
    altitudeM: 'integer',
    bunks: 'integer',
    state: 'text',
    amenities: 'list',
  });
  await make('trails', EVERYONE_READS, {
    name: 'text',
    fromHut: 'text',
    toHut: 'text',
    lengthKm: 'number',
    ascentM: 'integer',
    state: 'text',
  });
  await make(
    'bookings',
    { read: OWNER_RULE, create: OWNER_RULE, update: OWNER_RULE, delete: OWNER_RULE },
    { hut: 'text', guest: 'text', arrives: 'text', nights: 'integer', party: 'integer', state: 'text' },
  );
  await make(
    'hazards',
    { read: 'TRUE', create: SIGNED_IN, update: OWNER_RULE, delete: OWNER_RULE },
    { kind: 'text', position: 'place', note: 'text', state: 'text', photo: 'text' },
  );
  await make('notices', EVERYONE_READS, { hut: 'text', title: 'text', body: 'text', until: 'text' });
  await make('bulletins', EVERYONE_READS, { title: 'text', body: 'text', level: 'integer', issuedAt: 'text' });
}

async function seedPeople(owner: HttpClient): Promise<Seeded['people']> {
  const params = { app: APP.name, environment: 'dev' };
  const wanted = [{ ...HIKER, locale: 'nb-NO', timeZone: 'Europe/Oslo', roles: ['hiker'] }, ...hikers(PEOPLE)];
  return Promise.all(
    wanted.map(async (hiker) => {
      const { email, name, password, roles, locale } = hiker;
      const user = await owner.call(operations.users.create, {
        params,
        body: { email, name, password, roles, data: { language: locale } },
      });
      return { ...hiker, id: user.id };
    }),
  );
}

async function seedRecords(owner: HttpClient, people: Seeded['people'], now: number): Promise<void> {
  const random = seededRandom(11);
  const pick = <T>(list: readonly T[]) => list[Math.floor(random() * list.length)] as T;
  const day = (ahead: number) => new Date(now + ahead * DAY_MS).toISOString().slice(0, 10);
  const put = (environment: string, collection: string, id: string, body: JsonObject) =>
    owner.call(operations.managedRecords.put, { params: { app: APP.name, environment, collection, id }, body });
  for (const environment of ['dev', 'live']) {
    await Promise.all(
      HUTS.map(({ id, longitude, latitude, ...hut }) =>
        put(environment, 'huts', id, { ...hut, position: { type: 'Point', coordinates: [longitude, latitude] } }),
      ),
    );
    await Promise.all(
      HUTS.slice(1).map((hut, i) => {
        const from = HUTS[i] as (typeof HUTS)[number];
        return put(environment, 'trails', `${from.id}-${hut.id}`, {
          name: `${from.name} to ${hut.name}`,
          fromHut: from.id,
          toHut: hut.id,
          lengthKm: Math.round(80 + random() * 90) / 10,
          ascentM: Math.max(60, hut.altitudeM - from.altitudeM + 180),
          state: i === 6 ? 'closed' : 'open',
        });
      }),
    );
    await put(environment, 'bulletins', 'ridge-weather', {
      title: 'Ridge weather',
      body: 'Wind from the west, 14 m/s on the ridge, snow above 1,400 m after noon.',
      level: 2,
      issuedAt: new Date(now).toISOString(),
    });
  }
  const bookings = Array.from({ length: 160 }, (_, i) => {
    const person = pick(people);
    return put('dev', 'bookings', `booking-${String(i + 1).padStart(4, '0')}`, {
      hut: pick(HUTS).id,
      guest: person.name,
      arrives: day(Math.floor(random() * 60) - 20),
      nights: 1 + Math.floor(random() * 4),
      party: 1 + Math.floor(random() * 6),
      state: pick(['paid', 'paid', 'paid', 'held', 'cancelled']),
      ownerId: person.id,
    });
  });
  const hazards = Array.from({ length: 18 }, (_, i) => {
    const near = pick(HUTS);
    const position = {
      type: 'Point',
      coordinates: [near.longitude + (random() - 0.5) * 0.05, near.latitude + (random() - 0.5) * 0.04].map(
        (degrees) => Math.round(degrees * 1e5) / 1e5,
      ),
    };
    return put('dev', 'hazards', `hazard-${String(i + 1).padStart(3, '0')}`, {
      kind: pick(['snow bridge', 'fallen tree', 'high water', 'rockfall']),
      position,
      note: `Near ${near.name}.`,
      state: pick(['reported', 'approved', 'cleared']),
      photo: null,
      ownerId: pick(people).id,
    });
  });
  await Promise.all([
    ...bookings,
    ...hazards,
    put('dev', 'notices', 'fellgate-water', {
      hut: 'fellgate',
      title: 'Boil the water',
      body: 'The spring is cloudy after the thaw.',
      until: day(5),
    }),
  ]);
}
