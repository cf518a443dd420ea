/** Fills a fresh installation with the scenario, through the API. */
import { createHttpClient, type HttpClient, type NamedField, operations, Problem, SCOPES } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { seedNotices } from './notices.js';
import { APP, HIKER, HUTS, type Hiker, hikers, MEMBERS, OWNER, seededRandom, STORE_ID } from './scenario.js';

/** How much each environment holds: `dev` has everything, `live` what its users created. */
const SIZES = { dev: { people: 48, bookings: 160, hazards: 18 }, live: { people: 24, bookings: 60, hazards: 6 } } as const;
export type EnvironmentName = keyof typeof SIZES;
const DAY_MS = 86_400_000;
const EVERYONE_READS = { read: 'TRUE', create: 'FALSE', update: 'FALSE', delete: 'FALSE' };
const SIGNED_IN = "me('id') IS NOT NULL";
const OWNER_RULE = "ownerId = me('id')";

export type Keys = { clientKey: string; androidKey: string; webKey: string; serverKey: string };
export type SeededEnvironment = Keys & { people: (Hiker & { id: string })[] };
export type Seeded = SeededEnvironment & { live: SeededEnvironment };

/** Signs in as the owner; creates the account in a new installation. */
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

/** Creates app, members, clients, keys, collections, people and records. Removes first what a killed attempt left. */
export async function seed(owner: HttpClient, now: number, progress: (text: string) => void): Promise<Seeded> {
  await owner.call(operations.apps.remove, { params: { app: APP.name } }).catch(unless('not-found'));
  await owner.call(operations.apps.create, { body: APP });
  for (const member of MEMBERS)
    await owner
      .call(operations.members.add, {
        body: { email: member.email, name: member.name, password: OWNER.password, roles: [{ app: APP.name, role: member.role }] },
      })
      .catch(unless('already-exists'));
  const live = await seedClients(owner, 'live');
  const dev = await seedClients(owner, 'dev');
  for (const environment of ['live', 'dev']) await seedCollections(owner, environment);
  progress('people');
  const people = { dev: await seedPeople(owner, 'dev'), live: await seedPeople(owner, 'live') };
  progress('records');
  for (const environment of ['dev', 'live'] as const) await seedRecords(owner, environment, people[environment], now);
  return { ...dev, people: people.dev, live: { ...live, people: people.live } };
}

async function seedClients(owner: HttpClient, environment: string): Promise<Keys> {
  const params = { app: APP.name, environment };
  const create = (body: { name: string; kind: 'ios' | 'android' | 'web' | 'server'; packageIdentifier?: string; origins?: string[] }) =>
    owner.call(operations.clients.create, { params, body });
  const ios = await create({ name: 'hiker-ios', kind: 'ios', packageIdentifier: STORE_ID });
  const android = await create({ name: 'hiker-android', kind: 'android', packageIdentifier: STORE_ID });
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
  return {
    clientKey: ios.keys[0]?.key as string,
    androidKey: android.keys[0]?.key as string,
    webKey: web.keys[0]?.key as string,
    serverKey: server.key as string,
  };
}

const text = { type: 'text' } as const;
const integer = (min: number, max?: number) => ({ type: 'integer' as const, min, ...(max === undefined ? {} : { max }) });
const choice = (...choices: string[]) => ({ type: 'choice' as const, choices });
const reference = (to: string, onDelete: 'restrict' | 'clear' | 'cascade') => ({ type: 'reference' as const, to, onDelete });
const REGIONS = ['south', 'middle', 'north'];

async function seedCollections(owner: HttpClient, environment: string): Promise<void> {
  const params = { app: APP.name, environment };
  const make = (
    name: string,
    rules: Record<string, string>,
    fields: Record<string, Omit<NamedField, 'name' | 'seenBy'> & { seenBy?: string }>,
  ) =>
    owner.call(operations.collections.create, {
      params,
      body: { name, rules, fields: Object.entries(fields).map(([field, of]) => ({ name: field, ...of }) as NamedField) },
    });
  await make('huts', EVERYONE_READS, {
    name: { ...text, required: true, maxLength: 60 },
    region: choice(...REGIONS),
    state: choice('open', 'full', 'closed'),
    bunks: integer(0, 80),
    freeBunks: integer(0, 80),
    altitudeM: integer(0),
    position: { type: 'place' },
    warden: reference('users', 'clear'),
    amenities: { type: 'list' },
    photo: { type: 'file', onDelete: 'clear' },
  });
  await make('trails', EVERYONE_READS, {
    name: text,
    fromHut: reference('huts', 'restrict'),
    toHut: reference('huts', 'restrict'),
    lengthKm: { type: 'number', min: 0 },
    ascentM: integer(0),
    state: choice('open', 'closed'),
  });
  await make(
    'bookings',
    {
      read: `${OWNER_RULE} OR hut.warden = me('id')`,
      create: OWNER_RULE,
      update: `${OWNER_RULE} OR hut.warden = me('id')`,
      delete: OWNER_RULE,
    },
    {
      hut: { ...reference('huts', 'restrict'), required: true },
      arrives: { type: 'date' },
      nights: integer(1, 14),
      party: integer(1, 20),
      state: { ...choice('held', 'paid', 'cancelled'), default: 'held' },
      guest: reference('users', 'clear'),
      paidEur: { type: 'number', min: 0, hidden: true },
    },
  );
  await make(
    'hazards',
    { read: 'TRUE', create: SIGNED_IN, update: `${OWNER_RULE} OR A_CONTAINS(me('roles'), ('warden'))`, delete: OWNER_RULE },
    {
      kind: choice('snow bridge', 'fallen tree', 'high water', 'rockfall'),
      state: { ...choice('reported', 'approved', 'cleared'), default: 'reported' },
      position: { type: 'place' },
      note: { ...text, maxLength: 500 },
      photo: { type: 'file', onDelete: 'clear', withRecord: 'delete' },
      phone: { ...text, maxLength: 30, seenBy: `${OWNER_RULE} OR A_CONTAINS(me('roles'), ('rescuer'))` },
      seenAt: { type: 'time', default: 'now()' },
    },
  );
  await make('notices', EVERYONE_READS, { hut: reference('huts', 'cascade'), title: text, body: text, until: { type: 'date' } });
  await make('bulletins', EVERYONE_READS, { title: text, body: text, level: integer(1, 5), issuedAt: { type: 'time', default: 'now()' } });
  await make(
    'whereabouts',
    { read: OWNER_RULE, create: OWNER_RULE, update: OWNER_RULE, delete: OWNER_RULE },
    { position: { type: 'place' }, at: { type: 'time', default: 'now()' } },
  );
  await make('photos', EVERYONE_READS, { trail: text, position: { type: 'place' }, taken: { type: 'date' } });
  for (const collection of ['huts', 'photos', 'whereabouts'])
    await owner.call(operations.collections.addIndex, { params: { ...params, collection }, body: { fields: ['position'] } });
}

const [PHOTOS, PHOTOS_A_CALL] = [10_000, 1_000];

/** Where hikers took photos: along the trails from hut to hut, more of them near the huts. */
async function seedPhotos(owner: HttpClient, environment: EnvironmentName, now: number, random: () => number): Promise<void> {
  const params = { app: APP.name, environment, collection: 'photos' };
  const photo = () => {
    const at = Math.floor(random() * (HUTS.length - 1));
    const [from, to] = [HUTS[at], HUTS[at + 1]] as [(typeof HUTS)[number], (typeof HUTS)[number]];
    const way = random() ** 1.6;
    const near = () => (random() + random() + random() - 1.5) * 0.012;
    const between = (a: number, b: number) => Number((a + (b - a) * way + near()).toFixed(5));
    return {
      trail: `${from.name} – ${to.name}`,
      position: { type: 'Point', coordinates: [between(from.longitude, to.longitude), between(from.latitude, to.latitude)] },
      taken: dayOf(now, -Math.floor(random() * 400)),
    };
  };
  for (let done = 0; done < PHOTOS; done += PHOTOS_A_CALL) {
    const actions = Array.from({ length: PHOTOS_A_CALL }, () => ({ action: 'create' as const, record: photo() }));
    await owner.call(operations.managedRecords.batch, { params, body: { actions } });
  }
}

async function seedPeople(owner: HttpClient, environment: EnvironmentName): Promise<Seeded['people']> {
  const params = { app: APP.name, environment };
  const runa = { ...HIKER, locale: 'nb-NO', timeZone: 'Europe/Oslo', roles: ['hiker'], phone: '+12025550142' };
  const wanted = [runa, ...hikers(SIZES[environment].people)];
  return Promise.all(
    wanted.map(async (hiker) => {
      const { email, name, password, roles, locale, phone } = hiker;
      const user = await owner.call(operations.users.create, {
        params,
        body: { email, name, password, roles, data: { language: locale }, ...(phone ? { phone } : {}) },
      });
      return { ...hiker, id: user.id };
    }),
  );
}

type Put = (collection: string, id: string, body: JsonObject) => Promise<unknown>;

async function seedRecords(owner: HttpClient, environment: EnvironmentName, people: Seeded['people'], now: number): Promise<void> {
  const put: Put = (collection, id, body) =>
    owner.call(operations.managedRecords.put, { params: { app: APP.name, environment, collection, id }, body });
  const random = seededRandom(environment === 'dev' ? 11 : 13);
  const pick = <T>(list: readonly T[]) => list[Math.floor(random() * list.length)] as T;
  await seedHuts(put, people, random);
  await seedPhotos(owner, environment, now, seededRandom(17));
  await seedNotices(owner, environment, now);
  await put('bulletins', 'ridge-weather', {
    title: 'Ridge weather',
    body: 'Wind from the west, 14 m/s on the ridge, snow above 1,400 m after noon.',
    level: 2,
    issuedAt: new Date(now).toISOString(),
  });
  const { bookings, hazards } = SIZES[environment];
  await Promise.all([
    ...Array.from({ length: bookings }, (_, i) => put('bookings', `booking-${padded(i + 1, 4)}`, booking(pick, random, people, now))),
    ...Array.from({ length: hazards }, (_, i) => put('hazards', `hazard-${padded(i + 1, 3)}`, hazard(pick, random, people))),
    ...people.map(({ id }) => put('whereabouts', id, { position: near(pick(HUTS), random), ownerId: id })),
    put('notices', 'fellgate-water', {
      hut: 'fellgate',
      title: 'Boil the water',
      body: 'The spring is cloudy after the thaw.',
      until: dayOf(now, 5),
    }),
  ]);
}

const padded = (number: number, width: number) => String(number).padStart(width, '0');
const dayOf = (now: number, ahead: number) => new Date(now + ahead * DAY_MS).toISOString().slice(0, 10);
type Pick = <T>(list: readonly T[]) => T;

async function seedHuts(put: Put, people: Seeded['people'], random: () => number): Promise<void> {
  const wardens = people.filter(({ roles }) => roles.includes('warden'));
  const warden = (region: string) => wardens[REGIONS.indexOf(region) % wardens.length]?.id ?? null;
  await Promise.all(
    HUTS.map(({ id, longitude, latitude, ...hut }) =>
      put('huts', id, {
        ...hut,
        freeBunks: hut.bunks,
        warden: warden(hut.region),
        position: { type: 'Point', coordinates: [longitude, latitude] },
      }),
    ),
  );
  await Promise.all(
    HUTS.slice(1).map((hut, i) => {
      const from = HUTS[i] as (typeof HUTS)[number];
      return put('trails', `${from.id}-${hut.id}`, {
        name: `${from.name} to ${hut.name}`,
        fromHut: from.id,
        toHut: hut.id,
        lengthKm: Math.round(80 + random() * 90) / 10,
        ascentM: Math.max(60, hut.altitudeM - from.altitudeM + 180),
        state: i === 6 ? 'closed' : 'open',
      });
    }),
  );
}

function booking(pick: Pick, random: () => number, people: Seeded['people'], now: number): JsonObject {
  const person = pick(people);
  const state = pick(['paid', 'paid', 'paid', 'held', 'cancelled']);
  const [nights, party] = [1 + Math.floor(random() * 4), 1 + Math.floor(random() * 6)];
  return {
    hut: pick(HUTS).id,
    guest: person.id,
    arrives: dayOf(now, Math.floor(random() * 60) - 20),
    nights,
    party,
    state,
    paidEur: state === 'paid' ? nights * party * 42.5 : null,
    ownerId: person.id,
  };
}

/** A place within three kilometres of a hut. */
function near({ longitude, latitude }: (typeof HUTS)[number], random: () => number): JsonObject {
  const place = [longitude + (random() - 0.5) * 0.05, latitude + (random() - 0.5) * 0.04];
  return { type: 'Point', coordinates: place.map((degrees) => Math.round(degrees * 1e5) / 1e5) };
}

function hazard(pick: Pick, random: () => number, people: Seeded['people']): JsonObject {
  const hut = pick(HUTS);
  return {
    kind: pick(['snow bridge', 'fallen tree', 'high water', 'rockfall']),
    position: near(hut, random),
    note: `Near ${hut.name}.`,
    state: pick(['reported', 'approved', 'cleared']),
    photo: null,
    phone: `+1202555${String(100 + Math.floor(random() * 100)).padStart(4, '0')}`,
    ownerId: pick(people).id,
  };
}
