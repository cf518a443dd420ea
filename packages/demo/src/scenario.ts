/** Quillfell Huts: the made-up association behind all demo data. */
import type { HandsetKind } from '@orchard/simulators';

export const APP = { name: 'quillfell-hiker', title: 'Quillfell Hiker' };
export const OWNER = { email: 'mira@quillfell.example', name: 'Mira Quill', password: 'orchard-in-bloom' };
export const MEMBERS = [
  { email: 'jonas@quillfell.example', name: 'Jonas Tarn', role: 'developer' },
  { email: 'adaeze@quillfell.example', name: 'Adaeze Fell', role: 'developer' },
  { email: 'ilse@quillfell.example', name: 'Ilse Brook', role: 'maintainer' },
  { email: 'per@quillfell.example', name: 'Per Cairn', role: 'viewer' },
] as const;
/** Somebody who is invited to the team and has not joined. */
export const INVITED = { email: 'tove@quillfell.example', name: 'Tove Rask' };
/** A hiker whose password is known, for trying the app API. */
export const HIKER = { email: 'runa@hikers.example', name: 'Runa Stone', password: 'ridge-and-river' };

const person = (name: string) => ({ name, email: `${name.split(' ')[0]?.toLowerCase()}@hikers.example`, password: HIKER.password });
/** Identifier in the store, and project at Tarn. */
export const STORE_ID = 'example.quillfell.hiker';
export const PROJECT = 'quillfell-hiker';
export const HANDSETS: HandsetKind[] = [
  {
    name: 'Runa’s phone',
    network: { is: 'tarn', project: PROJECT },
    phone: '+12025550142',
    country: 'NO',
    platform: 'android',
    model: 'Larch 5',
    os: 'Android 16',
    appVersion: '2.4.0',
    locale: 'nb-NO',
    timeZone: 'Europe/Oslo',
    person: person('Runa Stone'),
  },
  {
    name: 'Kenji’s phone',
    network: { is: 'cairn', packageIdentifier: STORE_ID, stage: 'trial' },
    phone: '+12025550177',
    country: 'JP',
    platform: 'ios',
    model: 'Tern mini',
    os: 'iOS 19.2',
    appVersion: '2.4.1',
    locale: 'ja-JP',
    timeZone: 'Asia/Tokyo',
    person: person('Kenji Moor'),
  },
  {
    name: 'Hut tablet',
    platform: 'web',
    model: 'Skarn tablet',
    os: 'Debian 12',
    appVersion: '2.4.1',
    locale: 'en-GB',
    timeZone: 'Europe/London',
    person: person('Wanda Beck'),
  },
];

type Hut = {
  id: string;
  name: string;
  region: string;
  longitude: number;
  latitude: number;
  altitudeM: number;
  bunks: number;
  state: string;
  amenities: string[];
};
const hut = (
  id: string,
  name: string,
  region: string,
  longitude: number,
  latitude: number,
  altitudeM: number,
  bunks: number,
  state: string,
  ...amenities: string[]
): Hut => ({ id, name, region, longitude, latitude, altitudeM, bunks, state, amenities });
/** The fourteen huts, from south to north. */
export const HUTS: Hut[] = [
  hut('ashdale', 'Ashdale Lodge', 'south', 7.912, 61.084, 620, 36, 'open', 'stove', 'shower', 'drying room'),
  hut('birkrigg', 'Birkrigg', 'south', 7.968, 61.127, 840, 18, 'open', 'stove', 'spring'),
  hut('cold-tarn', 'Cold Tarn', 'south', 8.021, 61.163, 1015, 24, 'open', 'stove', 'drying room'),
  hut('dunmere', 'Dunmere', 'south', 8.094, 61.196, 1130, 12, 'closed', 'stove'),
  hut('eagle-stone', 'Eagle Stone', 'middle', 8.152, 61.238, 1285, 20, 'open', 'stove', 'radio'),
  hut('fellgate', 'Fellgate', 'middle', 8.226, 61.274, 1190, 48, 'open', 'stove', 'shower', 'drying room', 'radio'),
  hut('greyback', 'Greyback', 'middle', 8.287, 61.312, 1420, 16, 'open', 'stove', 'radio'),
  hut('hollow-col', 'Hollow Col', 'middle', 8.341, 61.355, 1610, 14, 'full', 'stove', 'radio', 'camera'),
  hut('ironbeck', 'Ironbeck', 'middle', 8.402, 61.391, 1240, 28, 'open', 'stove', 'spring'),
  hut('juniper', 'Juniper House', 'north', 8.471, 61.428, 1080, 32, 'open', 'stove', 'shower'),
  hut('kestrel', 'Kestrel Rock', 'north', 8.534, 61.466, 1360, 18, 'open', 'stove', 'radio', 'camera'),
  hut('larkspur', 'Larkspur', 'north', 8.602, 61.503, 980, 26, 'open', 'stove', 'spring'),
  hut('mossgill', 'Mossgill', 'north', 8.668, 61.541, 760, 30, 'open', 'stove', 'drying room'),
  hut('northend', 'Northend', 'north', 8.729, 61.586, 540, 40, 'open', 'stove', 'shower', 'drying room'),
];

const GIVEN = [
  'Aino',
  'Bram',
  'Chiara',
  'Dario',
  'Elif',
  'Femi',
  'Greta',
  'Hana',
  'Ivo',
  'Jaya',
  'Kofi',
  'Lena',
  'Mateo',
  'Noor',
  'Ola',
  'Priya',
  'Quim',
  'Rosa',
  'Sami',
  'Tuva',
  'Uma',
  'Vito',
  'Wren',
  'Xenia',
  'Yara',
  'Zeno',
];
const FAMILY = ['Alder', 'Brae', 'Crag', 'Dell', 'Esker', 'Ford', 'Glen', 'Heath', 'Islet', 'Knoll'];
const PLACES = [
  ['nb-NO', 'Europe/Oslo'],
  ['de-DE', 'Europe/Berlin'],
  ['en-GB', 'Europe/London'],
  ['fr-FR', 'Europe/Paris'],
  ['ja-JP', 'Asia/Tokyo'],
  ['pt-BR', 'America/Sao_Paulo'],
  ['en-US', 'America/Denver'],
] as const;

export type Hiker = {
  email: string;
  name: string;
  password: string;
  locale: string;
  timeZone: string;
  roles: string[];
  phone: string | null;
};
/** Hikers from many places, the same ones every time; the first few are wardens and rescuers. */
export function hikers(count: number): Hiker[] {
  return Array.from({ length: count }, (_, i) => {
    const name = `${GIVEN[i % GIVEN.length]} ${FAMILY[(i * 7 + Math.floor(i / GIVEN.length)) % FAMILY.length]}`;
    const [locale, timeZone] = PLACES[(i * 5) % PLACES.length] as (typeof PLACES)[number];
    const roles = i < 3 ? ['warden'] : i < 5 ? ['rescuer'] : ['hiker'];
    return {
      email: `${name.toLowerCase().replace(' ', '.')}@hikers.example`,
      name,
      password: HIKER.password,
      locale,
      timeZone,
      roles,
      phone: phoneOf(i, locale),
    };
  });
}

/** From ranges kept for fiction; every fifth person has none. */
function phoneOf(i: number, locale: string): string | null {
  if (i % 5 === 4) return null;
  return locale === 'en-GB' ? `+447700900${String(100 + i)}` : `+12025550${String(100 + (i % 100))}`;
}

/** A small seeded generator of numbers from 0 to 1 (mulberry32). */
export function seededRandom(seed: number): () => number {
  let state = seed;
  return () => {
    state = (state + 0x6d2b79f5) | 0;
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state);
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed;
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296;
  };
}
