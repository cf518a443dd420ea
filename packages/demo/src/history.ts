/** A week of made-up calls before today; the minute counts are sums of the single calls, so that both agree. */
import { addValue, base32, type Count, uuidv7, versionOf } from '@orchard/core';
import { Leases, insertCounts, insertRequests, insertSizes, openDatabase, REQUEST_COLUMNS, rollUp, Servers } from '@orchard/service/past';
import { seededRandom } from './scenario.js';

const MINUTE_MS = 60_000;
const DAYS = 7;

type Pattern = {
  weight: number;
  method: string;
  route: string;
  path: string;
  ms: number;
  statements: number;
  status: number;
  failures: [share: number, status: number, problem: string, detail: string][];
};
const DATA = '/app/v1/data/{collection}';
const EXPIRED: Pattern['failures'][number] = [
  0.012,
  401,
  'token-expired',
  'Use the refresh token with POST /app/v1/sessions to get a new one.',
];
const PATTERNS: Pattern[] = [
  {
    weight: 38,
    method: 'GET',
    route: DATA,
    path: '/app/v1/data/huts?filter=region%20%3D%20%27middle%27',
    ms: 11,
    statements: 1,
    status: 200,
    failures: [[0.004, 422, 'malformed-filter', 'There is no field `regon`; did you mean `region`? (at character 1 of the filter).']],
  },
  {
    weight: 24,
    method: 'GET',
    route: `${DATA}/{id}`,
    path: '/app/v1/data/bulletins/ridge-weather',
    ms: 3,
    statements: 1,
    status: 200,
    failures: [[0.01, 404, 'not-found', '`huts` has no record `hollow-coll`.']],
  },
  {
    weight: 9,
    method: 'POST',
    route: DATA,
    path: '/app/v1/data/bookings',
    ms: 9,
    statements: 1,
    status: 201,
    failures: [[0.06, 422, 'invalid-input', 'Field `nights` in `bookings` must be an integer; got "two".'], EXPIRED],
  },
  {
    weight: 6,
    method: 'PATCH',
    route: `${DATA}/{id}`,
    path: '/app/v1/data/bookings/booking-0042',
    ms: 10,
    statements: 2,
    status: 200,
    failures: [
      [
        0.03,
        412,
        'version-conflict',
        'If-Match names version 2 of bookings/booking-0042; it is at version 3 now. Read it again and apply your change to that.',
      ],
      EXPIRED,
    ],
  },
  {
    weight: 9,
    method: 'PUT',
    route: '/app/v1/devices/{id}',
    path: '/app/v1/devices/fleet-007',
    ms: 7,
    statements: 2,
    status: 200,
    failures: [],
  },
  {
    weight: 7,
    method: 'POST',
    route: '/app/v1/sessions',
    path: '/app/v1/sessions',
    ms: 34,
    statements: 3,
    status: 201,
    failures: [
      [0.05, 401, 'sign-in-refused', 'Check both. An address that is not registered gets the same response.'],
      [
        0.01,
        401,
        'session-ended',
        'This refresh token was used before, so the session was ended for safety. Sign in again, and keep only the newest refresh token.',
      ],
    ],
  },
  { weight: 6, method: 'GET', route: '/app/v1/users/me', path: '/app/v1/users/me', ms: 4, statements: 1, status: 200, failures: [EXPIRED] },
  {
    weight: 1,
    method: 'POST',
    route: '/app/v1/notifications',
    path: '/app/v1/notifications',
    ms: 13,
    statements: 5,
    status: 202,
    failures: [
      [0.02, 403, 'scope-missing', 'The server key `weather office` has the scopes records:write; this call needs `notify:send`.'],
    ],
  },
];
const REFUSED_BEFORE_THE_DATABASE = new Set(['token-expired', 'malformed-filter', 'invalid-input', 'scope-missing']);
const AGENTS = {
  'hiker-ios': 'QuillfellHiker/2.4.1 (iOS 19.2)',
  'hiker-android': 'QuillfellHiker/2.4.0 (Android 16)',
  'hiker-web': 'Mozilla/5.0 (X11; Linux x86_64)',
  'back-office': 'node',
} as const;
type ClientName = keyof typeof AGENTS;

/** How busy an hour is, from 0 to 1: quiet nights, a peak before supper. */
const busy = (hour: number) => 0.12 + 0.88 * Math.exp(-(((hour - 17) / 5) ** 2)) + 0.35 * Math.exp(-(((hour - 8) / 2.5) ** 2));

export type HistoryTarget = {
  databaseUrl: string;
  environmentId: string;
  now: number;
  devices: { userId: string; deviceId: string }[];
  keyIds: Partial<Record<ClientName, string>>;
  /** On a weekday. */
  callsADay: number;
  /** Records that the collections had seven days ago. */
  sizes: Record<string, number>;
};

/** Writes the week into the environment's database. @returns how many calls */
export async function writeHistory({ databaseUrl, environmentId, now, devices, keyIds, callsADay, sizes }: HistoryTarget): Promise<number> {
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
    const status = failure?.[1] ?? pattern.status;
    const client: ClientName = pattern.route.endsWith('notifications')
      ? 'back-office'
      : random() < 0.5
        ? 'hiker-android'
        : random() < 0.75
          ? 'hiker-ios'
          : 'hiker-web';
    // The hut search slows down at weekends: its own time, most of it spent in the database.
    const slow = weekend && pattern === PATTERNS[0] ? 5 + random() * 9 : 1;
    const durationUs = Math.round(pattern.ms * slow * 1000 * (0.55 + random() * 0.6 + (random() < 0.04 ? random() * 8 : 0)));
    const statements = failure && REFUSED_BEFORE_THE_DATABASE.has(failure[2]) ? 0 : pattern.statements;
    const device = client === 'back-office' || random() < 0.2 ? null : devices[Math.floor(random() * devices.length)];
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
      AGENTS[client],
      pattern.method === 'GET' ? 0 : 180,
      failure ? 320 : 900,
      targetOf(pattern.path) || null,
      versionOf(AGENTS[client]),
      1,
      null,
      null,
      null,
    ]);
    const minute = Math.floor(callAt / MINUTE_MS) * MINUTE_MS;
    const { method, route } = pattern;
    const problem = failure?.[2] ?? '';
    const target = targetOf(pattern.path);
    const name = `${minute} ${method} ${route} ${target} ${client} ${status} ${problem}`;
    const count = minutes.get(name) ?? {
      at: minute,
      kind: 'call',
      method,
      route,
      target,
      client,
      status,
      problem,
      calls: 0,
      sumUs: 0,
      histogram: new Map(),
    };
    count.calls++;
    count.sumUs += durationUs;
    addValue(count.histogram, durationUs);
    minutes.set(name, count);
  }

  if (rows[0] && rows[0].length !== REQUEST_COLUMNS.length)
    throw new Error('The columns of a recorded call have changed; the history must follow.');
  const database = openDatabase(databaseUrl, 2);
  const servers = new Servers(database, new Leases(database, 'demo'));
  const db = servers.databaseOf(environmentId, null);
  try {
    await insertRequests(db, rows);
    await insertSizes(db, now, sizes);
    await insertCounts(db, 'minute', `past-${base32(bytes(4))}`, [...minutes.values()]);
    await rollUp(db);
  } finally {
    await servers.close();
  }
  return rows.length;
}

/** The collection that a path names. */
const targetOf = (path: string): string => /^\/app\/v1\/data\/(\w+)/.exec(path)?.[1] ?? '';

function pickPattern(share: number): Pattern {
  let left = share * PATTERNS.reduce((sum, { weight }) => sum + weight, 0);
  return PATTERNS.find(({ weight }) => (left -= weight) < 0) ?? (PATTERNS[0] as Pattern);
}
