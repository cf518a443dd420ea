/** The week of calls that the demo begins with: of one piece, since every count is the sum of calls that can be opened. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { writeHistory } from '../src/history.js';

let test: TestService;
let app: TestApp;
let written: number;
const NOW = Date.now();
const DEVICES = [{ userId: '01900000-0000-7000-8000-000000000001', deviceId: 'fleet-001-aaaa', country: 'NO' }];

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), { requestDays: 8 });
  app = await makeApp(test, 'quillfell-hiker');
  const environment = await test.service.parts.directory.environment('quillfell-hiker', 'live');
  written = await writeHistory({
    databaseUrl: test.config.databaseUrl as string,
    environmentId: environment.id,
    now: NOW,
    devices: DEVICES,
    keyIds: { 'hiker-ios': 'key-ios' },
    callsADay: 300,
    onCall: 'somebody',
    sizes: { huts: 14 },
    refusedBookings: [{ at: NOW - 86_400_000, client: 'hiker-ios', userId: null, deviceId: 'hiker-00001', country: 'NO' }],
  });
});
afterAll(() => test.stop());

/** Six whole days: before the week of single calls there are counts alone. */
const FROM = new Date(Math.floor(NOW / 86_400_000 - 6) * 86_400_000).toISOString();
const period = { from: FROM, until: new Date(NOW).toISOString() };
const count = async (filter: string) => {
  let found = 0;
  for (let cursor: string | undefined; ; ) {
    const query = { filter, limit: 1000, ...(cursor ? { cursor } : {}) };
    const page = await test.owner.call(operations.telemetry.requests, { params: app.live.params, query });
    found += page.items.length;
    if (!page.next) return found;
    cursor = page.next;
  }
};

it('has the refused booking after which somebody stopped', async () => {
  expect(await count("deviceId = 'hiker-00001' AND problem = 'invalid-input' AND method = 'POST'")).toBe(1);
});

it('has as many calls as its counts say, in all and by status', async () => {
  const usage = await eventually(async () => {
    const found = await test.owner.call(operations.telemetry.usage, { params: app.live.params, query: period });
    return found.total.calls > 0 && found;
  });
  const since = `direction = 'in' AND at >= TIMESTAMP('${FROM}')`;
  expect(await count("direction = 'in'")).toBe(written);
  expect(await count(since)).toBe(usage.total.calls);
  expect(await count(`${since} AND status >= 400 AND status < 500`)).toBe(usage.total.clientErrors);
  expect(usage.steps.reduce((sum, { calls }) => sum + calls, 0)).toBe(usage.total.calls);
});

it('has counts and incidents of the ninety days before', async () => {
  const query = { from: new Date(NOW - 90 * 86_400_000).toISOString(), until: new Date(NOW).toISOString() };
  const { total } = await test.owner.call(operations.telemetry.usage, { params: app.live.params, query });
  expect(total.calls).toBeGreaterThan(8 * written);
  const { items } = await test.owner.call(operations.incidents.list, { params: app.live.params, query: { limit: 100 } });
  expect(items.length).toBeGreaterThan(20);
  expect(items.find(({ condition }) => condition === 'failing')).toMatchObject({ acknowledgedBy: { kind: 'member' } });
});

it('has its failures explained, and its calls made by the devices there are', async () => {
  const { items } = await test.owner.call(operations.telemetry.requests, {
    params: app.live.params,
    query: { filter: 'problem IS NOT NULL', limit: 20 },
  });
  expect(items.length).toBeGreaterThan(0);
  const full = await test.owner.call(operations.telemetry.request, { params: { ...app.live.params, request: items[0]?.id as string } });
  expect(full).toMatchObject({ problem: expect.any(String), detail: expect.any(String) });
  expect(await count("deviceId = 'fleet-001-aaaa'")).toBeGreaterThan(written / 2);
});

it('is quiet at night and busy before supper', async () => {
  const at = (hour: number) => {
    const start = new Date(NOW - 2 * 86_400_000);
    start.setUTCHours(hour, 0, 0, 0);
    return `at >= TIMESTAMP('${start.toISOString()}') AND at < TIMESTAMP('${new Date(start.getTime() + 3_600_000).toISOString()}')`;
  };
  expect(await count(at(17))).toBeGreaterThan(2 * (await count(at(1))));
});
