/**
 * Ninety days of how people use the apps, with shapes worth finding: guided groups get the web client in week five and book in
 * blocks; the north fills up once its bridge opens; bookings stop at the arrival time in one version and one time zone, and the
 * next version mends it; a storm day empties the trail.
 */
import { visitNumber } from '@orchard/core/insight';
import { openDatabase, Leases, type PastEvent, type PastPerson, Servers, writePastEvents } from '@orchard/service/past';
import type { Refused } from './history.js';
import { versionAfter } from './releases.js';
import { HUTS, seededRandom } from './scenario.js';
import { BROKEN_ZONE, REGIONS, ZONES } from './zones.js';

const DAY_MS = 86_400_000;
const HOUR_MS = 3_600_000;
const MINUTE_MS = 60_000;
const DAYS = 90;
/** Days before today. */
const GROUPS_SINCE = 62;
const BRIDGE_SINCE = 41;
const STORM = 18;
const BROKEN = '2.6.0';
const REFUSED_DAYS = 6;
const DEVICES = {
  ios: [['iOS 19', 'Larch', 'Larch 4']],
  android: [
    ['Android 16', 'Tarn', 'Tarn Mini'],
    ['Android 15', 'Cairn', 'Cairn 9'],
  ],
  web: [['Linux', '', '']],
} as const;
type Platform = keyof typeof DEVICES;

type Hiker = {
  index: number;
  platform: Platform;
  zone: (typeof ZONES)[number];
  device: readonly [string, string, string];
  /** Days before today on which they came first. */
  since: number;
  /** How likely they are to be there on a day. */
  keen: number;
  isGuide: boolean;
  /** Days until they take a release. */
  slow: number;
};

export type MadeUp = { people: PastPerson[]; events: PastEvent[] };

/** @param users of the environment: some of the people are they */
export function madeUpUse(people: number, now: number, users: readonly { id: string; deviceId: string }[]): MadeUp {
  const random = seededRandom(71);
  const today = Math.floor(now / DAY_MS) * DAY_MS;
  const hikers = Array.from({ length: people }, (_, index) => hiker(index, random));
  const events: PastEvent[] = [];
  for (let ago = DAYS; ago >= 0; ago--) {
    const day = today - ago * DAY_MS;
    const weekday = new Date(day).getUTCDay();
    const busy = (weekday === 0 || weekday === 6 ? 1.6 : 1) * (ago === STORM ? 1.8 : ago === STORM - 1 ? 0.5 : 1);
    for (const one of hikers) {
      if (one.since < ago) continue;
      const isFirst = one.since === ago;
      // Fewer come back as time goes on.
      const left = one.keen * (0.25 + 0.75 * Math.exp(-(one.since - ago) / 25));
      if (isFirst || random() < left * busy) visit(one, day, ago, random, events);
    }
  }
  return {
    people: hikers.map(({ index }) =>
      users[index]
        ? { userId: users[index].id, deviceId: users[index].deviceId }
        : { userId: null, deviceId: `hiker-${String(index).padStart(5, '0')}` },
    ),
    events: events.filter(({ at }) => at < now - MINUTE_MS),
  };
}

/** Of the last days, most of those who stopped once they had chosen the dates: the service refused what they tried to book. */
export function refusedBookings({ people, events }: MadeUp, now: number): Refused[] {
  const random = seededRandom(73);
  const recent = events.filter(({ at }) => at > now - REFUSED_DAYS * DAY_MS);
  return recent.flatMap(({ name, at, person, visit, properties }, i) => {
    const next = recent[i + 1];
    const wentOn = next?.person === person && next.visit === visit;
    if (name !== 'dates_chosen' || wentOn || random() > 0.7) return [];
    const { userId = null, deviceId = '' } = people[person] ?? {};
    return [{ at: at + 4_000, client: properties.client as Refused['client'], userId, deviceId, country: String(properties.country) }];
  });
}

function hiker(index: number, random: () => number): Hiker {
  const isGuide = random() < 0.06;
  const platform: Platform = isGuide ? 'web' : random() < 0.5 ? 'android' : random() < 0.86 ? 'ios' : 'web';
  const devices = DEVICES[platform];
  // The web client is there from week five on.
  const earliest = platform === 'web' ? GROUPS_SINCE : DAYS + 30;
  return {
    index,
    platform,
    zone: pickZone(random()),
    device: devices[Math.floor(random() * devices.length)] as readonly [string, string, string],
    since: Math.floor(random() * (isGuide ? Math.min(earliest, 14) + earliest - 14 : earliest)),
    keen: isGuide ? 0.3 : 0.05 + random() * 0.2,
    isGuide,
    slow: Math.floor(random() * 9),
  };
}

function pickZone(share: number): (typeof ZONES)[number] {
  let left = share;
  return ZONES.find(([, , , part]) => (left -= part) < 0) ?? (ZONES[0] as (typeof ZONES)[number]);
}

const versionOn = (ago: number, { slow, platform }: Hiker): string => versionAfter(ago + (platform === 'web' ? 0 : slow));

function visit(one: Hiker, day: number, ago: number, random: () => number, events: PastEvent[]): void {
  const [os, manufacturer, model] = one.device;
  const [timeZone, country, locale] = one.zone;
  const regions = REGIONS[country] ?? [];
  const region = regions[one.index % regions.length];
  const version = versionOn(ago, one);
  const builtIn = {
    client: `hiker-${one.platform}`,
    platform: one.platform,
    os,
    version,
    timeZone,
    country,
    locale,
    ...(region ? { region } : {}),
    ...(manufacturer ? { manufacturer, model } : {}),
  };
  let at = day + (6 + random() * 15) * HOUR_MS;
  const named = visitNumber(`${one.index} ${ago}`);
  const say = (name: string, properties: PastEvent['properties'] = {}) => {
    events.push({ person: one.index, at: Math.round(at), name, visit: named, properties: { ...builtIn, ...properties } });
    at += (4 + random() * 80) * 1000;
  };
  say('app_opened');
  if (ago === STORM) {
    say('warning_read', { kind: 'storm' });
    if (random() < 0.7) say('channel_opened', { channel: 'ridge-weather' });
    return;
  }
  if (random() < 0.2) say('map_kept', { megabytes: Math.round(20 + random() * 90) });
  if (random() < 0.08) say('hazard_seen', { kind: random() < 0.5 ? 'rockfall' : 'high water' });
  if (random() < 0.75) book(one, ago, random, say, version);
}

function book(
  one: Hiker,
  ago: number,
  random: () => number,
  say: (name: string, properties?: PastEvent['properties']) => void,
  version: string,
): void {
  const goesNorth = random() < (ago <= BRIDGE_SINCE ? 0.45 : 0.12);
  const huts = HUTS.filter(({ region }) => (region === 'north') === goesNorth);
  const hut = huts[Math.floor(random() * huts.length)] ?? HUTS[0];
  // Not `region`: that is the part of their country that devices report.
  const trailPart = hut?.region ?? 'north';
  say('huts_searched', { trailPart });
  if (random() < 0.25) return;
  say('hut_opened', { hut: hut?.name ?? '', trailPart });
  if (random() < 0.45) return;
  const nights = one.isGuide ? 2 : 1 + Math.floor(random() * 4);
  say('dates_chosen', { nights, trailPart });
  if (version === BROKEN && one.zone[0] === BROKEN_ZONE ? random() < 0.94 : random() < 0.12) {
    if (version === BROKEN && one.zone[0] === BROKEN_ZONE) say('form_error', { field: 'arrivalTime', reason: 'not a whole hour from UTC' });
    return;
  }
  say('arrival_time_chosen', { hour: 14 + Math.floor(random() * 6) });
  if (random() < 0.1) return;
  // A guide books for several groups one after another.
  for (let left = one.isGuide ? 3 : 1; left > 0; left--) {
    const party = one.isGuide ? 8 + Math.floor(random() * 5) : 1 + Math.floor(random() * 4);
    say('booking_sent', { nights, party, trailPart, amount: nights * party * 35, guided: one.isGuide });
  }
}

/** The events that the team planned, with what they mean. */
export const EVENT_PLAN = [
  { name: 'app_opened', description: 'The app came to the front', owner: 'Jonas Tarn', properties: {} },
  {
    name: 'huts_searched',
    description: 'A search for huts showed its results',
    owner: 'Jonas Tarn',
    properties: { trailPart: { type: 'text' } },
  },
  {
    name: 'hut_opened',
    description: 'The page of a hut was opened',
    owner: 'Jonas Tarn',
    properties: { hut: { type: 'text' }, trailPart: { type: 'text' } },
  },
  {
    name: 'dates_chosen',
    description: 'Arrival and nights were chosen',
    owner: 'Adaeze Fell',
    properties: { nights: { type: 'number' }, trailPart: { type: 'text' } },
  },
  {
    name: 'arrival_time_chosen',
    description: 'The time of arrival was chosen',
    owner: 'Adaeze Fell',
    properties: { hour: { type: 'number' } },
  },
  {
    name: 'booking_sent',
    description: 'A booking was taken',
    owner: 'Adaeze Fell',
    properties: {
      nights: { type: 'number' },
      party: { type: 'number' },
      trailPart: { type: 'text' },
      amount: { type: 'number' },
      guided: { type: 'boolean' },
    },
  },
] as const;

export type UseTarget = {
  databaseUrl: string;
  environmentId: string;
  now: number;
  made: MadeUp;
};

/** Writes the ninety days into the environment's database. @returns how many events */
export async function writeUse({ databaseUrl, environmentId, now, made }: UseTarget): Promise<number> {
  const database = openDatabase(databaseUrl, { connections: 2 });
  const servers = new Servers(database, new Leases(database, 'demo'));
  try {
    await writePastEvents(servers.databaseOf(environmentId, null), made.people, made.events, now);
  } finally {
    await servers.close();
  }
  return made.events.length;
}
