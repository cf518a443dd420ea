/** Events from the app to an answer: what is taken, whose it is, and that packing changes nothing. */
import { randomUUID } from 'node:crypto';
import { operations } from '@orchard/contract';
import { inArray } from 'drizzle-orm';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { packDayOf } from '../src/insight/events/packing.js';
import { deleteEvents, readEvents } from '../src/insight/events/eventStore.js';
import { packedDays } from '../src/insight/events/segmentStore.js';
import { deliveryTable } from '../src/messages/notifications/tables.js';
import type { Environment } from '../src/platform/call.js';
import { eventually, makeApp, memberClient, PASSWORD, signUp, startTestService, type TestApp, type TestService } from './support.js';

const DAY_MS = 86_400_000;
const MINUTE_MS = 60_000;
let test: TestService;
let app: TestApp;
let environment: Environment;
/** Midnight, two days ago: what happens in these tests happens on whole days. */
let day: number;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  day = Math.floor(Date.now() / DAY_MS - 2) * DAY_MS;
});
afterAll(() => test.stop());
let number = 0;
beforeEach(async () => {
  app = await makeApp(test, `hiker-${++number}`);
  environment = await test.service.parts.directory.environment(app.name, 'dev');
});

type Event = { id?: string; name: string; at?: number | string; visit?: string; properties?: object };
const secrets = new Map<string, string>();
async function register(device: string, changes: object = {}, token?: string) {
  const body = {
    platform: 'ios',
    appVersion: '2.5.0',
    os: 'iOS 19',
    locale: 'nb-NO',
    timeZone: 'Europe/Oslo',
    permission: 'granted',
    country: 'NO',
    region: 'NO-46',
    ...changes,
  };
  const { body: made } = await test.app('PUT', `/devices/${device}`, { key: app.dev.clientKey, body, ...(token ? { token } : {}) });
  if (made.secret) secrets.set(`${app.name} ${device}`, made.secret);
}
async function bring(device: string, events: Event[], { token, body = {} }: { token?: string; body?: object } = {}) {
  const given = events.map(({ id = randomUUID(), at = day + DAY_MS, ...event }) => ({
    id,
    at: typeof at === 'number' ? new Date(at).toISOString() : at,
    ...event,
  }));
  return test.app('POST', '/events', {
    key: app.dev.clientKey,
    ...(token ? { token } : {}),
    headers: { 'orchard-device': device, 'orchard-device-secret': secrets.get(`${app.name} ${device}`) ?? '' },
    body: { sentAt: new Date().toISOString(), events: given, ...body },
  });
}
const period = () => ({ from: new Date(day).toISOString(), until: new Date(day + 3 * DAY_MS).toISOString() });
const count = async (more: object = {}) =>
  test.owner.call(operations.insight.events, { params: app.dev.params, body: { ...period(), step: 'day', ...more } as never });
const total = async (more: object = {}) => (await count(more)).series[0]?.total;
const pack = async () => {
  for (const one of [day - 7 * DAY_MS, day - DAY_MS, day, day + DAY_MS, day + 2 * DAY_MS])
    await packDayOf(environment.db, test.service.parts, one);
};

describe('events', () => {
  it('are taken one by one, and each refusal says why, in the answer and in the list', async () => {
    await register('phone-0001');
    const { status, body } = await bring('phone-0001', [
      { name: 'open' },
      { name: '' },
      { name: 'open', at: Date.now() + 3_600_000 },
      { name: 'open', at: '1970-01-01T00:00:00.000Z' },
      { name: 'open', properties: { version: '1' } },
      { name: 'open', properties: { nights: 2 } },
    ]);
    expect(status).toBe(200);
    expect(body.taken).toBe(2);
    expect(body.refused.map(({ index, problem }: { index: number; problem: string }) => [index, problem])).toEqual([
      [1, 'event-malformed'],
      [2, 'event-in-future'],
      [3, 'event-too-late'],
      [4, 'property-reserved'],
    ]);
    expect(await total()).toBe(2);
    const { items } = await test.owner.call(operations.events.refusals, { params: app.dev.params });
    expect(items.map(({ problem }) => problem).sort()).toEqual([
      'event-in-future',
      'event-malformed',
      'event-too-late',
      'property-reserved',
    ]);
    expect(items.find(({ problem }) => problem === 'property-reserved')).toMatchObject({
      name: 'open',
      client: 'hiker-ios',
      count: 1,
      sample: expect.stringContaining('version'),
    });
  });

  it('count once when they are sent again, within a call, across calls and days, and at the same time', async () => {
    await register('phone-0001');
    const twice = { id: 'e-1', name: 'open' };
    await bring('phone-0001', [twice, twice, { id: 'e-2', name: 'open' }]);
    await bring('phone-0001', [
      { ...twice, at: day },
      { id: 'e-3', name: 'open' },
    ]);
    await Promise.all(
      [1, 2, 3, 4].map(() =>
        bring('phone-0001', [
          { id: 'e-4', name: 'open' },
          { id: 'e-5', name: 'open' },
        ]),
      ),
    );
    expect(await total()).toBe(5);
    await pack();
    await bring('phone-0001', [{ id: 'e-4', name: 'open' }]);
    expect(await total()).toBe(5);
  });

  it('of a clock that is off are put right, and what the device is comes from its registration', async () => {
    await register('phone-0001');
    const ahead = Date.now() + 5 * 3_600_000;
    await bring('phone-0001', [{ name: 'open', at: ahead - MINUTE_MS, properties: { nights: 3 } }], {
      body: { sentAt: new Date(ahead).toISOString() },
    });
    const { items } = await test.owner.call(operations.events.latest, { params: app.dev.params, query: { device: 'phone-0001' } });
    expect(Math.abs(Date.parse(items[0]?.at ?? '') - (Date.now() - MINUTE_MS))).toBeLessThan(10_000);
    expect(items[0]?.properties).toEqual({
      client: 'hiker-ios',
      platform: 'ios',
      os: 'iOS 19',
      version: '2.5.0',
      locale: 'nb-NO',
      timeZone: 'Europe/Oslo',
      country: 'NO',
      region: 'NO-46',
      nights: 3,
    });
  });

  it('need a device that is registered, and its secret', async () => {
    const { body } = await bring('phone-9999', [{ name: 'open' }, { name: 'open' }]);
    expect(body).toEqual({
      taken: 0,
      refused: [0, 1].map((index) => ({ index, problem: 'device-unregistered', detail: expect.stringContaining('phone-9999') })),
    });
    await register('phone-0001');
    secrets.set(`${app.name} phone-0001`, 'nothing');
    expect((await bring('phone-0001', [{ name: 'open' }])).body.type).toContain('access-refused');
    expect(await total()).toBe(0);
  });

  it('that are planned are checked against the plan, and kept apart or refused as the team sets it', async () => {
    await register('phone-0001');
    await test.owner.call(operations.events.plan, {
      params: { ...app.dev.params, event: 'book' },
      body: { description: 'A booking was sent', owner: 'Jonas', properties: { nights: { type: 'number' } } },
    });
    const events = [{ name: 'book', properties: { nights: 2 } }, { name: 'book', properties: { nights: 'two' } }, { name: 'other' }];
    expect((await bring('phone-0001', events)).body.taken).toBe(3);
    const kinds = async () => (await test.owner.call(operations.events.list, { params: app.dev.params })).items;
    expect((await kinds()).map(({ name, planned, misfits }) => [name, planned, misfits])).toEqual([
      ['book', true, 1],
      ['other', false, 1],
    ]);
    await test.owner.call(operations.events.changeSettings, { params: app.dev.params, body: { unplanned: 'refuse' } });
    const { body } = await bring('phone-0001', events);
    expect([body.taken, body.refused.map(({ problem }: { problem: string }) => problem)]).toEqual([
      1,
      ['property-unfit', 'event-unplanned'],
    ]);
  });

  it('are dropped without consent, where the environment asks for it, and barred properties are not kept', async () => {
    await register('phone-0001');
    await test.owner.call(operations.events.changeSettings, { params: app.dev.params, body: { consent: true, barred: ['mail'] } });
    expect((await bring('phone-0001', [{ name: 'open' }])).body.refused[0].problem).toBe('consent-missing');
    expect(
      (await bring('phone-0001', [{ name: 'open', properties: { mail: 'x', nights: 1 } }], { body: { consent: true } })).body.taken,
    ).toBe(1);
    const { items } = await test.owner.call(operations.events.latest, { params: app.dev.params, query: {} });
    expect(items[0]?.properties).not.toHaveProperty('mail');
  });

  it('with more than a hundred new names in a minute are refused from there on', async () => {
    await register('phone-0001');
    const { body } = await bring(
      'phone-0001',
      Array.from({ length: 500 }, (_, i) => ({ name: `tap ${i}` })),
    );
    expect([body.taken, body.refused[0]?.problem, body.refused.length]).toEqual([100, 'too-many-names', 400]);
  });
});

describe('a person', () => {
  const people = (more = {}) => total({ measure: 'people', ...more });

  it('is the device until somebody signs in, and then that user, backwards too', async () => {
    await register('phone-0001');
    await bring('phone-0001', [{ name: 'open', at: day }]);
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    await bring('phone-0001', [{ name: 'book' }], { token: runa.token });
    expect(await people()).toBe(1);
    await pack();
    expect(await people()).toBe(1);
    const funnel = { ...period(), steps: [{ event: 'open' }, { event: 'book' }], windowMs: 3 * DAY_MS };
    const { steps } = await test.owner.call(operations.insight.funnel, { params: app.dev.params, body: funnel });
    expect(steps.map(({ people: some }) => some)).toEqual([1, 1]);
    // The next user signs in on the same device: they stay two, and so does who used it in between.
    await bring('phone-0001', [{ name: 'open' }]);
    const ivo = await signUp(test, app.dev.clientKey, 'ivo');
    await bring('phone-0001', [{ name: 'open' }], { token: ivo.token });
    await bring('phone-0001', [{ name: 'open' }], { token: runa.token });
    expect(await people()).toBe(2);
    // And one of them has another device.
    await register('phone-0002');
    await bring('phone-0002', [{ name: 'open' }], { token: ivo.token });
    expect(await people()).toBe(2);
    await bring('phone-0002', [{ name: 'open' }]);
    expect(await people()).toBe(3);
    const behind = await test.owner.call(operations.insight.people, {
      params: app.dev.params,
      body: { ...funnel, steps: [{ event: 'open' }], step: 0 },
    });
    expect(behind.items.find(({ userId }) => userId === ivo.id)?.deviceIds.sort()).toEqual(['phone-0001', 'phone-0002']);
  });

  it('of a hut’s tablet is each warden in turn', async () => {
    await register('tablet-001');
    for (const name of ['ada', 'bo', 'cy']) {
      const { token } = await signUp(test, app.dev.clientKey, name);
      await bring('tablet-001', [{ name: 'open' }, { name: 'check-in' }], { token });
    }
    expect([await people(), await people({ event: 'check-in' })]).toEqual([3, 3]);
  });

  it('who is deleted does not count any more, before and after their days are packed anew', async () => {
    await register('phone-0001');
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    await bring('phone-0001', [{ name: 'open', at: day }]);
    await pack();
    await bring('phone-0001', [{ name: 'open' }, { name: 'book' }], { token: runa.token });
    await register('phone-0002');
    await bring('phone-0002', [{ name: 'open' }]);
    expect([await total(), await people()]).toEqual([4, 2]);
    await test.owner.call(operations.users.remove, { params: { ...app.dev.params, user: runa.id } });
    expect([await total(), await people()]).toEqual([1, 1]);
    expect((await count()).erased).toBe(2);
    await eventually(async () => ((await packedDays(environment.db, day, day + DAY_MS))[0]?.rows === 0 ? true : null), 60_000);
    expect([await total(), await people()]).toEqual([1, 1]);
  });
});

describe('packing', () => {
  const names = ['open', 'search', 'book'] as const;
  async function fill() {
    for (const device of ['phone-0001', 'phone-0002', 'phone-0003']) {
      await register(device, { appVersion: device.endsWith('3') ? '2.6.0' : '2.5.0' });
      await bring(
        device,
        names.flatMap((name, i) => [
          { name, at: day + i * MINUTE_MS, properties: { nights: i, km: i / 3 } },
          { name, at: day + DAY_MS + i * 40 * MINUTE_MS, visit: 'v' },
        ]),
      );
    }
  }
  const answers = async () => {
    const own = operations.insight;
    const ask = async (
      operation:
        | (typeof own)['funnel']
        | (typeof own)['visits']
        | (typeof own)['arrivals']
        | (typeof own)['paths']
        | (typeof own)['returns'],
      body: object,
    ) => {
      const { tookMs: _, ...answer } = (await test.owner.call(operation as typeof own.visits, {
        params: app.dev.params,
        body: { ...period(), ...body } as never,
      })) as never as { tookMs: number };
      return answer;
    };
    return [
      (await count({ group: ['version', 'event'], measure: 'people' })).series,
      (await count({ filter: 'nights >= 1', measure: 'sum:nights' })).series,
      (await count({ measure: 'sum:km' })).series,
      await ask(own.funnel, { steps: names.map((event) => ({ event })), by: ['version'] }),
      await ask(own.visits, { group: ['version'] }),
      await ask(own.arrivals, { group: ['version'], compare: 'previous' }),
      await ask(own.paths, { event: 'open' }),
      await ask(own.returns, { step: 'day' }),
    ];
  };

  it('changes no answer, and neither do late events, packed again', async () => {
    await fill();
    const before = await answers();
    await pack();
    expect(await readEvents(environment.db, 0, Date.now())).toEqual([]);
    expect(await answers()).toEqual(before);
    await bring('phone-0001', [
      { name: 'open', at: day - DAY_MS },
      { name: 'search', at: day + 10 * MINUTE_MS },
    ]);
    const late = await answers();
    expect(late).not.toEqual(before);
    await pack();
    // Asked at once, they share the days that are open.
    expect(await Promise.all([answers(), answers(), answers()])).toEqual([late, late, late]);
  });

  it('by two instances at once, or killed before its end, loses and doubles nothing', async () => {
    await fill();
    const before = await total();
    const { db } = environment;
    await Promise.all([1, 2, 3].map(() => packDayOf(db, test.service.parts, day).catch(() => false)));
    expect(await total()).toBe(before);
    // A packing that dies before its commit: nothing of it is left.
    await expect(
      db.transaction(async (on) => {
        await deleteEvents(
          db,
          on,
          (await readEvents(db, day, day + 2 * DAY_MS)).map(({ number: one }) => one),
        );
        throw new Error('killed');
      }),
    ).rejects.toThrow('killed');
    expect(await total()).toBe(before);
    await pack();
    expect(await total()).toBe(before);
  });
});

describe('a question', () => {
  it('is refused with what to do about it', async () => {
    await register('phone-0001');
    await bring('phone-0001', [{ name: 'open', properties: { nights: 2 } }]);
    await expect(count({ filter: 'nigths > 1' })).rejects.toMatchObject({
      problem: 'malformed-filter',
      detail: expect.stringContaining('nights'),
    });
    await expect(count({ group: ['colour'] })).rejects.toMatchObject({
      problem: 'malformed-filter',
      detail: expect.stringContaining('`colour`'),
    });
    await expect(count({ measure: 'sum' })).rejects.toMatchObject({ problem: 'invalid-input' });
    await expect(count({ from: new Date(day).toISOString(), until: new Date(day).toISOString() })).rejects.toMatchObject({
      problem: 'invalid-input',
    });
    await expect(count({ from: '2020-01-01T00:00:00.000Z' })).rejects.toMatchObject({
      problem: 'invalid-input',
      detail: expect.stringContaining('800 days'),
    });
    expect((await count({ event: 'nothing' })).series[0]?.total).toBe(0);
  });

  it('that nobody waits for any more ends, and the next one is answered', async () => {
    await register('phone-0001');
    await bring('phone-0001', [{ name: 'open' }]);
    const leaving = new AbortController();
    const asked = test.owner.call(operations.insight.arrivals, { params: app.dev.params, body: period() as never, signal: leaving.signal });
    leaving.abort();
    await expect(asked).rejects.toThrow();
    expect(await total()).toBe(1);
  });

  it('is answered to members of the environment alone', async () => {
    const email = `${app.name}@quillfell.example`;
    const roles = [{ app: app.name, role: 'viewer' as const }];
    await test.owner.call(operations.members.add, { body: { email, name: 'Per', password: PASSWORD, roles } });
    const client = await memberClient(test.address, { email, password: PASSWORD });
    const other = await makeApp(test, `${app.name}-other`);
    const ask = (params: TestApp['dev']['params']) => client.call(operations.insight.visits, { params, body: {} });
    expect((await ask(app.dev.params)).total.visits).toBe(0);
    await expect(ask(other.dev.params)).rejects.toMatchObject({ problem: 'role-insufficient' });
    await expect(client.call(operations.events.changeSettings, { params: app.dev.params, body: { days: 30 } })).rejects.toMatchObject({
      problem: 'role-insufficient',
    });
  });

  it('sets the period before behind it, and days begin in the zone asked for', async () => {
    await register('phone-0001');
    await bring('phone-0001', [
      { name: 'open', at: day - 3 * DAY_MS },
      { name: 'open', at: day },
      { name: 'open', at: day + 23.5 * 3_600_000 },
    ]);
    const { series, previous } = await count({ compare: 'previous', zone: 'Europe/Oslo' });
    expect(previous?.[0]?.total).toBe(1);
    expect(series[0]?.steps.map(({ value }) => value)).toEqual([1, 1, 0, 0]);
  });

  it('says what a message did: those who opened it beside those it did not reach', async () => {
    const ids = Array.from({ length: 8 }, (_, i) => `phone-200${i}`);
    for (const id of ids) await register(id);
    for (const id of ids) await bring(id, [{ name: 'open', at: Date.now() - DAY_MS }]);
    const { id } = await test.owner.call(operations.notifications.sendManaged, {
      params: app.dev.params,
      body: { title: 'The ridge is open', audience: { devices: ids } },
    });
    await eventually(async () => {
      const { deliveries } = await test.owner.call(operations.notifications.readManaged, { params: { ...app.dev.params, id } });
      return deliveries.total === 8 && deliveries.queued === 0 ? true : null;
    });
    // Four of them have it open; no network is asked here.
    const { db } = environment;
    await db.orm
      .update(db.table(deliveryTable))
      .set({ openedAt: new Date(Date.now() - 60_000) })
      .where(inArray(deliveryTable.target, ids.slice(0, 4)));
    for (const device of ids.slice(0, 3)) await bring(device, [{ name: 'book', at: Date.now() }]);
    await bring(ids[7] as string, [{ name: 'open', at: Date.now() }]);
    const effect = await test.owner.call(operations.insight.effect, { params: app.dev.params, body: { notification: id, event: 'book' } });
    expect(effect.items.map(({ outcome, people, did }) => [outcome, people, did])).toEqual([
      ['not reached', 4, 0],
      ['opened', 4, 3],
    ]);
    expect(effect.p).toBeLessThan(0.05);
    const nothing = test.owner.call(operations.insight.effect, {
      params: app.dev.params,
      body: { notification: randomUUID(), event: 'book' },
    });
    await expect(nothing).rejects.toMatchObject({ problem: 'not-found' });
  });

  it('says why people stop: what they differ in from those who went on, and what they did next', async () => {
    for (let i = 0; i < 40; i++) {
      const device = `phone-1${String(i).padStart(3, '0')}`;
      const stops = i % 2 === 0;
      await register(device, { timeZone: stops && i < 36 ? 'Asia/Kathmandu' : 'Europe/Oslo' });
      await bring(device, [
        { name: 'open', at: day },
        { name: 'book', at: day + MINUTE_MS },
        { name: stops ? 'leave' : 'pay', at: day + 2 * MINUTE_MS },
      ]);
    }
    const steps = [{ event: 'open' }, { event: 'book' }, { event: 'pay' }];
    const why = await test.owner.call(operations.insight.why, { params: app.dev.params, body: { ...period(), steps, step: 1 } });
    expect([why.stopped, why.went, why.next]).toEqual([20, 20, [{ event: 'leave', people: 20 }]]);
    expect(why.differences[0]).toMatchObject({ property: 'timeZone', stopped: 18, went: 0 });
    expect(why.differences[0]?.words).toContain('Asia/Kathmandu for 90 % of those who stopped');
    const { total: stopped } = await test.owner.call(operations.insight.people, {
      params: app.dev.params,
      body: { ...period(), steps, step: 1, stopped: true, limit: 5 },
    });
    expect(stopped).toBe(20);
  });
});

describe('an audience by what people did', () => {
  const reached = async (filter: string) => {
    const { total: all, behaviourAt } = await test.owner.call(operations.notifications.previewManaged, {
      params: app.dev.params,
      body: { title: 'x', way: 'push', audience: { filter } },
    });
    return [all, behaviourAt] as const;
  };

  it('counts whoever uses a device now: did, did not, so often, within so many days, with a condition', async () => {
    for (const device of ['phone-0001', 'phone-0002', 'phone-0003']) await register(device);
    await bring('phone-0001', [
      { name: 'book', properties: { nights: 1 } },
      { name: 'book', properties: { nights: 3 }, at: day },
    ]);
    await bring('phone-0002', [{ name: 'book', properties: { nights: 1 } }]);
    await bring('phone-0003', [{ name: 'open' }]);
    await pack();
    expect((await reached("times('book', 28) >= 1"))[0]).toBe(2);
    expect((await reached("times('book', 28) >= 2"))[0]).toBe(1);
    expect((await reached("times('book', 28) = 0 AND platform = 'ios'"))[0]).toBe(1);
    expect((await reached("times('book', 2) >= 2"))[0]).toBe(0);
    expect((await reached("times('book', 28, 'nights > 2') = 1"))[0]).toBe(1);
    // Another one signs in on the first phone: what was done there before is not theirs, but it was nobody’s and so becomes theirs.
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    await register('phone-0001', {}, runa.token);
    expect((await reached("times('book', 28) >= 1"))[0]).toBe(1);
    const { items } = await test.owner.call(operations.devices.list, {
      params: app.dev.params,
      query: { filter: "times('book', 28) >= 1" },
    });
    expect(items.map(({ id }) => id)).toEqual(['phone-0002']);
  });

  it('is at most five minutes old, and says how old', async () => {
    await register('phone-0001');
    await bring('phone-0001', [{ name: 'book' }]);
    const [first, at] = await reached("times('book', 28) >= 2");
    await bring('phone-0001', [{ name: 'book' }]);
    expect([first, await reached("times('book', 28) >= 2")]).toEqual([0, [0, at]]);
    await environment.db.run(`UPDATE ${environment.db.name}._behaviours SET countedAt = countedAt - INTERVAL 6 MINUTE`);
    const [then, later] = await reached("times('book', 28) >= 2");
    expect([then, Date.parse(later ?? '') >= Date.parse(at ?? '')]).toEqual([1, true]);
  });

  it('is sent to, and what cannot be counted is refused by name', async () => {
    await register('phone-0001');
    await bring('phone-0001', [{ name: 'book' }]);
    const send = (filter: string) =>
      test.app('POST', '/notifications', { key: app.dev.serverKey, body: { title: 'x', audience: { filter } } });
    expect((await send("times('book', 28) = 1")).body.deliveries.total).toBe(1);
    const problems = [
      ["times('bok', 28) = 1", 'There is no event `bok`; did you mean `book`?'],
      ["times('book') = 1", "Expected times('event', days)"],
      ["times('book', 28, 'night > 1') = 1", 'There is no field `night`'],
    ];
    for (const [filter, words] of problems)
      expect((await send(filter as string)).body).toMatchObject({ detail: expect.stringContaining(words as string) });
  });
});
