/** What the team promises, who is told of trouble, and what apps had to say: the release that brought a new error among it. */
import { createHttpClient, type HttpClient, type Objective, operations } from '@orchard/contract';
import { APP, seededRandom } from './scenario.js';
import type { EnvironmentName } from './seed.js';

export const ON_CALL = 'Ilse Brook';
const BOARD = 'Per Cairn';
const DAY_MS = 86_400_000;

/** The promise that the hut search breaks at weekends. */
const HUT_SEARCH: Objective = {
  name: 'hut-search',
  title: 'The hut search is fast',
  subject: { of: 'route', method: 'GET', route: '/app/v1/data/{collection}', target: 'huts' },
  measure: { of: 'latency', statistic: 'p95' },
  windowMs: 15 * 60_000,
  stressed: 80,
  failing: 400,
  leastCalls: 20,
  leaveOut: [],
};

export async function seedOperations(
  owner: HttpClient,
  address: string,
  keys: Record<EnvironmentName, string>,
  now: number,
): Promise<void> {
  for (const environment of ['dev', 'live'] as const) {
    const params = { app: APP.name, environment };
    const { items, version } = await owner.call(operations.objectives.read, { params });
    if (!items.some(({ name }) => name === HUT_SEARCH.name)) {
      const body = { items: [...items, HUT_SEARCH], version, why: 'Hikers search for huts at weekends, and then it was slow' };
      await owner.call(operations.objectives.replace, { params, body });
    }
    await bringEntries(address, keys[environment], now);
  }
  await seedAlerts(owner);
  await seedReports(owner);
}

/** What the team looks at again, and what the board reads on Monday. */
async function seedReports(owner: HttpClient): Promise<void> {
  const params = { app: APP.name, environment: 'live' };
  const save = (body: Parameters<typeof owner.call<typeof operations.reports.save>>[1]['body']) =>
    owner.call(operations.reports.save, { params, body });
  await save({ name: 'The week', source: 'summary', period: 'week' });
  const search = await save({
    name: 'Hut search',
    source: 'use',
    route: HUT_SEARCH.subject.of === 'route' ? HUT_SEARCH.subject.route : '',
    target: 'huts',
    period: 'four-weeks',
  });
  await save({ name: 'Failed calls', source: 'requests', filter: 'status >= 500', period: 'day' });
  const { items } = await owner.call(operations.digests.list, {});
  if (items.length > 0) return;
  const readers = (await owner.call(operations.members.list, {})).items.filter(({ name }) => [ON_CALL, BOARD].includes(name));
  await owner.call(operations.digests.add, {
    body: {
      name: 'Monday for the board',
      every: 'week',
      timeZone: 'Europe/Oslo',
      environments: [{ ...params, reports: [search.id] }],
      readers: readers.map(({ id }) => ({ member: id })),
    },
  });
}

async function seedAlerts(owner: HttpClient): Promise<void> {
  const { items } = await owner.call(operations.members.list, {});
  const idOf = (name: string) => items.find((one) => one.name === name)?.id as string;
  const duty = [{ to: 'on-call' as const, rota: 'duty' }];
  const owners = [{ to: 'role' as const, role: 'owner' as const }];
  const maintainers = [{ to: 'role' as const, role: 'maintainer' as const }];
  await owner.call(operations.alerts.replace, {
    params: { app: APP.name, environment: 'live' },
    body: {
      rules: [
        { name: 'failing', on: 'condition', from: 'failing', steps: [duty, owners] },
        { name: 'budget', on: 'budget', steps: [duty] },
        { name: 'certificates', on: 'certificate', steps: [maintainers] },
        { name: 'new-problems', on: 'new-problem', steps: [maintainers] },
      ],
      rotas: [
        {
          name: 'duty',
          timeZone: 'Europe/Oslo',
          members: [idOf(ON_CALL), idOf('Mira Quill')],
          startsOn: '2026-01-05',
          handOver: '09:00',
          days: 7,
        },
      ],
    },
  });
}

const ARRIVAL_STACK = `TypeError: Cannot read properties of undefined (reading 'slice')
    at askArrival (https://hiker.quillfell.example/assets/booking-7c41d2aa.js:88:31)
    at openBooking (https://hiker.quillfell.example/assets/booking-7c41d2aa.js:41:5)`;
const MAP_STACK = `RangeError: Invalid array length
    at readTiles (https://hiker.quillfell.example/assets/map-0b1c9f3e.js:212:17)`;

type Brought = { daysAgo: number; version: string; devices: number; entry: object };
const BROUGHT: Brought[] = [
  // The release of three days ago: the step that asks for the arrival time.
  {
    daysAgo: 2.9,
    version: '2.6.1',
    devices: 17,
    entry: errorOf('TypeError', "Cannot read properties of undefined (reading 'slice')", ARRIVAL_STACK),
  },
  { daysAgo: 5.5, version: '2.6.0', devices: 3, entry: errorOf('RangeError', 'Invalid array length', MAP_STACK) },
  {
    daysAgo: 4,
    version: '2.6.1',
    devices: 9,
    entry: { level: 'info', text: 'The maps of the northern region are stored', fields: { tiles: 412 } },
  },
  {
    daysAgo: 1.2,
    version: '2.6.1',
    devices: 5,
    entry: { level: 'warning', text: 'No signal for an hour; four changes wait', fields: { pending: 4 } },
  },
];

function errorOf(name: string, message: string, stack: string): object {
  return { level: 'error', text: '', error: { name, message, stack } };
}

/** Entries of many devices, spread from their day on. */
async function bringEntries(address: string, key: string, now: number): Promise<void> {
  const random = seededRandom(53);
  for (const { daysAgo, version, devices, entry } of BROUGHT)
    for (let device = 1; device <= devices; device++) {
      const at = new Date(now - daysAgo * DAY_MS * (1 - random() * 0.9)).toISOString();
      const app = createHttpClient({
        address,
        headers: () => ({
          'orchard-key': key,
          'orchard-device': `fleet-${String(device).padStart(3, '0')}`,
          'user-agent': `QuillfellHiker/${version} (Android 16)`,
        }),
      });
      await app.call(operations.log.add, { body: { entries: [{ ...entry, at } as never] } });
    }
}
