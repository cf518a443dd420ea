/** What hikers' apps call, how often, and what goes wrong. */

export type Pattern = {
  weight: number;
  method: string;
  route: string;
  path: string;
  ms: number;
  statements: number;
  status: number;
  failures: [share: number, status: number, problem: string, detail: string][];
  slowsAtWeekends?: true;
};
const DATA = '/app/v1/data/{collection}';
const EXPIRED: Pattern['failures'][number] = [
  0.012,
  401,
  'token-expired',
  'Use the refresh token with POST /app/v1/sessions to get a new one.',
];
export const PATTERNS: Pattern[] = [
  {
    weight: 38,
    method: 'GET',
    route: DATA,
    path: '/app/v1/data/huts?filter=region%20%3D%20%27middle%27',
    ms: 11,
    slowsAtWeekends: true,
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
export const AGENTS = {
  'hiker-ios': (version: string) => `QuillfellHiker/${version} (iOS 19.2)`,
  'hiker-android': (version: string) => `QuillfellHiker/${version} (Android 16)`,
  'hiker-web': () => 'Mozilla/5.0 (X11; Linux x86_64)',
  'back-office': () => 'node',
} as const;
export type ClientName = keyof typeof AGENTS;

/** How busy an hour is, from 0 to 1: quiet nights, a peak before supper. */
export const busy = (hour: number) => 0.12 + 0.88 * Math.exp(-(((hour - 17) / 5) ** 2)) + 0.35 * Math.exp(-(((hour - 8) / 2.5) ** 2));

/** The collection that a path names. */
export const targetOf = (path: string): string => /^\/app\/v1\/data\/(\w+)/.exec(path)?.[1] ?? '';

/** Which clients make the calls of a pattern, by their shares. */
export const CLIENT_SHARES = ({ route }: Pattern): [ClientName, number][] =>
  route.endsWith('notifications')
    ? [['back-office', 1]]
    : [
        ['hiker-android', 0.5],
        ['hiker-ios', 0.375],
        ['hiker-web', 0.125],
      ];
