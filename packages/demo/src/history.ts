/** A week of made-up calls before today; the minute counts are sums of the single calls, so that both agree. */
import { addValue, base32, type Count, uuidv7, versionOf } from '@orchard/core';
import {
  forgetCells,
  Leases,
  insertCounts,
  insertRequests,
  insertSizes,
  openDatabase,
  REQUEST_COLUMNS,
  Servers,
} from '@orchard/service/past';
import { AGENTS, busy, type ClientName, PATTERNS, type Pattern, targetOf } from './patterns.js';
import { addCount, NO_ROUTE, versionAt } from './releases.js';
import { seededRandom } from './scenario.js';
import { writeSeason } from './season.js';

const MINUTE_MS = 60_000;
const DAYS = 7;

const REFUSED_BEFORE_THE_DATABASE = new Set(['token-expired', 'malformed-filter', 'invalid-input', 'scope-missing']);
export type HistoryTarget = {
  databaseUrl: string;
  environmentId: string;
  now: number;
  devices: { userId: string; deviceId: string; country: string }[];
  keyIds: Partial<Record<ClientName, string>>;
  /** On a weekday. */
  callsADay: number;
  /** Id of the maintainer who is on call. */
  onCall: string;
  /** Records that the collections had seven days ago. */
  sizes: Record<string, number>;
  /** People whose booking was refused, after which they stopped. */
  refusedBookings: readonly Refused[];
};
export type Refused = { at: number; client: ClientName; userId: string | null; deviceId: string; country: string };
type Failure = Pattern['failures'][number];
type MadeCall = {
  at: number;
  pattern: Pattern;
  failure: Failure | undefined;
  client: ClientName;
  durationUs: number;
  device: { userId: string | null; deviceId: string; country: string } | null;
};
const WINTER: Failure = [1, 422, 'invalid-input', 'Field `arrives` in `bookings` must lie before the hut closes for the winter.'];

/** Writes the week into the environment's database. @returns how many calls */
export async function writeHistory({
  databaseUrl,
  environmentId,
  now,
  devices,
  keyIds,
  callsADay,
  onCall,
  sizes,
  refusedBookings,
}: HistoryTarget): Promise<number> {
  const random = seededRandom(37);
  const bytes = (count: number) => Uint8Array.from({ length: count }, () => Math.floor(random() * 256));
  const hex = (count: number) => Buffer.from(bytes(count)).toString('hex');
  const rows: unknown[][] = [];
  const minutes = new Map<string, Count>();
  for (let at = now - DAYS * 1440 * MINUTE_MS; at < now - MINUTE_MS; at += 5 * MINUTE_MS) {
    const date = new Date(at);
    const weekend = date.getUTCDay() === 0 || date.getUTCDay() === 6;
    const expected = (callsADay / 288) * busy(date.getUTCHours() + date.getUTCMinutes() / 60) * (weekend ? 1.5 : 1);
    for (let left = expected * (0.7 + random() * 0.6); left > random(); left--) addCall(at + Math.floor(random() * 5 * MINUTE_MS), weekend);
  }

  function addCall(callAt: number, weekend: boolean): void {
    if (callAt > now - 2 * MINUTE_MS) return;
    const pattern = pickPattern(random());
    const failure = pattern.failures.find(([share]) => random() < share);
    const client: ClientName = pattern.route.endsWith('notifications')
      ? 'back-office'
      : random() < 0.5
        ? 'hiker-android'
        : random() < 0.75
          ? 'hiker-ios'
          : 'hiker-web';
    // The hut search slows down at weekends: its own time, most of it spent in the database.
    const slow = weekend && pattern.slowsAtWeekends ? 5 + random() * 9 : 1;
    const durationUs = Math.round(pattern.ms * slow * 1000 * (0.55 + random() * 0.6 + (random() < 0.04 ? random() * 8 : 0)));
    const device = client === 'back-office' || random() < 0.2 ? null : (devices[Math.floor(random() * devices.length)] ?? null);
    record({ at: callAt, pattern, failure, client, durationUs, device });
  }

  for (const { at, client, ...device } of refusedBookings) {
    const pattern = PATTERNS.find(({ method, path }) => method === 'POST' && path.endsWith('/bookings')) as Pattern;
    record({ at, pattern, failure: WINTER, client, durationUs: Math.round(6_000 + random() * 4_000), device });
  }

  function record({ at: callAt, pattern, failure, client, durationUs, device }: MadeCall): void {
    const status = failure?.[1] ?? pattern.status;
    const statements = failure && REFUSED_BEFORE_THE_DATABASE.has(failure[2]) ? 0 : pattern.statements;
    const agent = AGENTS[client](versionAt(callAt, now, random()));
    rows.push([
      uuidv7(callAt, bytes(10)),
      new Date(callAt),
      pattern.method,
      pattern.route,
      pattern.path,
      status,
      durationUs,
      statements === 0 ? 0 : Math.round(durationUs * (0.5 + random() * 0.3)),
      statements,
      client,
      keyIds[client] ?? null,
      device?.userId ?? null,
      device?.deviceId ?? null,
      hex(16),
      hex(8),
      random() < 0.3 ? hex(8) : null,
      failure?.[2] ?? null,
      failure?.[3] ?? null,
      client === 'hiker-web' ? 'https://hiker.quillfell.example' : null,
      agent,
      pattern.method === 'GET' ? 0 : 180,
      failure ? 320 : 900,
      targetOf(pattern.path) || null,
      versionOf(agent),
      1,
      'in',
      null,
      null,
      null,
    ]);
    const { method, route } = pattern;
    const histogram = new Map<number, number>();
    addValue(histogram, durationUs);
    const call: Count = {
      at: Math.floor(callAt / MINUTE_MS) * MINUTE_MS,
      kind: 'call',
      method,
      route,
      target: targetOf(pattern.path),
      client,
      status,
      problem: failure?.[2] ?? '',
      calls: 1,
      sumUs: durationUs,
      histogram,
    };
    addCount(minutes, call);
    addCount(minutes, { ...call, ...NO_ROUTE, kind: 'version', route: versionOf(agent) ?? '' });
    addCount(minutes, { ...call, ...NO_ROUTE, kind: 'country', route: device?.country ?? '' });
  }

  if (rows[0] && rows[0].length !== REQUEST_COLUMNS.length)
    throw new Error('The columns of a recorded call have changed; the history must follow.');
  const database = openDatabase(databaseUrl, { connections: 2 });
  const servers = new Servers(database, new Leases(database, 'demo'));
  const db = servers.databaseOf(environmentId, null);
  try {
    await insertRequests(db, rows);
    await insertSizes(db, now, sizes);
    // To seed is no day of an app: its slow calls in a rush say nothing about the condition.
    await forgetCells(db);
    await insertCounts(db, 'minute', `past-${base32(bytes(4))}`, [...minutes.values()]);
    const newId = () => uuidv7(now, bytes(10));
    await writeSeason({ place: { db }, now, weekAt: now - DAYS * 1440 * MINUTE_MS, callsADay, onCall: `member:${onCall}`, newId });
  } finally {
    await servers.close();
  }
  return rows.length;
}

function pickPattern(share: number): Pattern {
  let left = share * PATTERNS.reduce((sum, { weight }) => sum + weight, 0);
  return PATTERNS.find(({ weight }) => (left -= weight) < 0) ?? (PATTERNS[0] as Pattern);
}
