/** The association's files: pictures of huts and hazards, routes, and what wardens keep. */
import { type HttpClient, operations } from '@orchard/contract';
import { drawPicture } from './pictures.js';
import { APP, HUTS } from './scenario.js';
import type { Seeded } from './seed.js';

const params = { app: APP.name, environment: 'dev' };
const { managedFiles: own, managedRecords: records } = operations;
const SIGNED_IN = "me('id') IS NOT NULL";
const OWNER = "ownerId = me('id')";
const WARDENS = "A_CONTAINS(me('roles'), ('warden'))";

const RULES = {
  photos: { read: 'TRUE', create: SIGNED_IN, update: `${OWNER} OR ${WARDENS}`, delete: OWNER },
  routes: { read: 'TRUE', create: WARDENS, update: WARDENS, delete: 'FALSE' },
  wardens: { read: WARDENS, create: WARDENS, update: WARDENS, delete: 'FALSE' },
};

export async function seedFiles(owner: HttpClient, { people }: Seeded): Promise<void> {
  for (const [path, rules] of Object.entries(RULES))
    await owner.call(own.changeFolderSettings, { params, query: { path }, body: { rules, public: path === 'photos' } });
  for (const [name, type] of [
    ['caption', 'text'],
    ['season', 'text'],
  ] as const)
    await owner.call(own.addProperty, { params, body: { name, type } });
  await seedPictures(owner);
  await seedTexts(owner);
  await owner.call(own.share, { params, body: { path: 'wardens/handbook.txt', count: 20 } });
  // What hikers keep for themselves.
  const [hiker] = people;
  if (hiker) await put(owner, `hikers/${hiker.id}/packing list.txt`, 'Boots\nStove\nTwo maps\nThe red scarf\n', {}, hiker.id);
}

async function put(owner: HttpClient, path: string, content: Buffer | string, properties: object = {}, ownerId?: string): Promise<string> {
  const { id } = (await (
    await owner.open(own.put, {
      params: { ...params, path },
      query: { properties: JSON.stringify({ ...properties, ...(ownerId ? { ownerId } : {}) }) },
      headers: { 'content-type': 'application/octet-stream' },
      raw: content as never,
    })
  ).json()) as { id: string };
  return id;
}

async function seedPictures(owner: HttpClient): Promise<void> {
  for (const [i, { id, name }] of HUTS.entries()) {
    const season = i % 3 === 0 ? 'autumn' : 'summer';
    const photo = await put(owner, `photos/huts/${id}.jpg`, await drawPicture('hut', 100 + i), { caption: name, season });
    await owner.call(records.patch, { params: { ...params, collection: 'huts', id }, body: { photo } });
  }
  const { items } = await owner.call(records.list, { params: { ...params, collection: 'hazards' }, query: { limit: 8 } });
  for (const [i, { id, kind }] of items.entries()) {
    const photo = await put(owner, `photos/hazards/${id}.jpg`, await drawPicture('hazard', 300 + i), { caption: String(kind) });
    await owner.call(records.patch, { params: { ...params, collection: 'hazards', id }, body: { photo } });
  }
}

/** A way from hut to hut, as GPX 1.1. */
function route(from: (typeof HUTS)[number], to: (typeof HUTS)[number]): string {
  const points = Array.from({ length: 25 }, (_, i) => {
    const at = (a: number, b: number) => (a + ((b - a) * i) / 24 + Math.sin(i) * 0.002).toFixed(5);
    return `<trkpt lat="${at(from.latitude, to.latitude)}" lon="${at(from.longitude, to.longitude)}"/>`;
  });
  return `<?xml version="1.0"?>\n<gpx version="1.1" creator="Quillfell Huts" xmlns="http://www.topografix.com/GPX/1/1"><trk><name>${from.name} – ${to.name}</name><trkseg>\n${points.join('\n')}\n</trkseg></trk></gpx>\n`;
}

async function seedTexts(owner: HttpClient): Promise<void> {
  for (let i = 0; i + 1 < HUTS.length; i++) {
    const [from, to] = [HUTS[i], HUTS[i + 1]] as [(typeof HUTS)[number], (typeof HUTS)[number]];
    await put(owner, `routes/${from.id}–${to.id}.gpx`, route(from, to));
  }
  await put(owner, 'wardens/handbook.txt', 'Handbook for wardens\n\n1. Count the bunks at six.\n');
  await put(
    owner,
    'wardens/handbook.txt',
    'Handbook for wardens\n\n1. Count the bunks at six.\n2. Read the weather at half past.\n3. Keep the stove wood dry.\n',
  );
  await put(owner, 'wardens/prices.csv', `kind,crowns\nbunk,280\nmeal,190\nday visit,40\n`);
}
