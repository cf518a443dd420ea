/** Standing notifications: sent for each record, so long before a date or time in it, on the clock of who gets it. */
import { createECDH, randomBytes, randomUUID } from 'node:crypto';
import { type Notification, operations, type Standing } from '@orchard/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { lookForDue, standingWorker } from '../src/messages/standing/sending.js';
import { StandingStore } from '../src/messages/standing/store.js';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: { id: string; token: string };
let kenji: { id: string; token: string };
const own = operations.standing;
const store = new StandingStore();

/** A device that subscribes at the simulated web push network. */
async function phone(token: string, timeZone: string): Promise<void> {
  const { applicationServerKey } = (await test.app('GET', '/push-key', { key: app.dev.clientKey })).body;
  const { endpoint } = test.simulators.network.subscribe(applicationServerKey);
  const keys = { p256dh: createECDH('prime256v1').generateKeys('base64url'), auth: randomBytes(16).toString('base64url') };
  const registered = await test.app('PUT', `/devices/${randomUUID()}`, {
    key: app.dev.clientKey,
    token,
    body: {
      platform: 'ios',
      appVersion: '1.0',
      os: 'iOS 19',
      locale: 'en-GB',
      timeZone,
      permission: 'granted',
      subscription: { endpoint, keys },
    },
  });
  expect(registered.status).toBe(201);
}
const put = (path: string, body: object) => test.app('PUT', `/data/${path}`, { key: app.dev.serverKey, body });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  [runa, kenji] = await Promise.all([signUp(test, app.dev.clientKey, 'runa'), signUp(test, app.dev.clientKey, 'kenji')]);
  await phone(runa.token, 'Europe/Oslo');
  await phone(kenji.token, 'America/New_York');
  const make = (name: string, fields: object[]) =>
    test.owner.call(operations.collections.create, { params: app.dev.params, body: { name, fields } as never });
  await make('huts', [{ name: 'name', type: 'text' }]);
  await make('bookings', [
    { name: 'hut', type: 'reference', to: 'huts' },
    { name: 'arrives', type: 'date' },
    { name: 'checkIn', type: 'time' },
    { name: 'state', type: 'text' },
  ]);
  await put('huts/fellgate', { name: 'Fellgate {north}' });
});
afterAll(() => test.stop());

const EVENING = {
  name: 'The evening before',
  collection: 'bookings',
  field: 'arrives',
  filter: "state = 'paid'",
  daysBefore: 1,
  at: '18:00',
  title: 'Tomorrow at {record.hut.name}',
  body: 'Hello {user.name|hiker}, you arrive on {record.arrives}.',
};
const SOON = { ...EVENING, field: 'checkIn', daysBefore: undefined, at: undefined, body: 'See you at {record.hut.name}.' };
const add = (body: object): Promise<Standing> => test.owner.call(own.add, { params: app.dev.params, body: body as never });
const remove = (standing: string) => test.owner.call(own.remove, { params: { ...app.dev.params, standing } });
const sentFor = async (standing: string) =>
  (await test.owner.call(own.sent, { params: { ...app.dev.params, standing }, query: { sort: 'record' } })).items;
const next = async (standing: string) => (await test.owner.call(own.next, { params: { ...app.dev.params, standing } })).items;

/** Lets time pass from one instant to another: what is due is sent as the service does it. */
async function pass(standing: string, from: string, to: string): Promise<void> {
  const environment = await test.service.parts.directory.environment(app.name, 'dev');
  await store.change(environment, standing, { checkedTo: new Date(from) });
  const worker = standingWorker({ ...test.service.parts, now: () => Date.parse(to) }, store);
  await worker({ environmentId: environment.id, subject: 'due' } as never, { renew: async () => true, stopping: () => false });
}
const book = (id: string, ownerId: string | null, arrives: string | null, more: object = {}) =>
  put(`bookings/${id}`, { hut: 'fellgate', ownerId, arrives, state: 'paid', ...more });

describe('a standing notification', () => {
  let id: string;
  beforeEach(async () => {
    for (const one of (await test.owner.call(own.list, { params: app.dev.params })).items) await remove(one.id);
    for (const one of ['b1', 'b2', 'b3', 'b4', 'b9']) await test.app('DELETE', `/data/bookings/${one}`, { key: app.dev.serverKey });
    ({ id } = await add(EVENING));
  });

  it('is due at the time of day of each person, across summer time, and sent once with the record in its words', async () => {
    // Oslo is two hours ahead of UTC on the 24th, one on the 25th; New York four behind.
    await book('b1', runa.id, '2026-10-25');
    await book('b2', kenji.id, '2026-10-25');
    await book('b3', runa.id, '2026-10-26');
    await pass(id, '2026-10-24T15:59:00Z', '2026-10-24T16:00:00Z');
    expect((await sentFor(id)).map(({ record, outcome }) => [record, outcome])).toEqual([['b1', 'sent']]);
    await pass(id, '2026-10-24T15:00:00Z', '2026-10-24T22:00:00Z');
    await pass(id, '2026-10-25T16:30:00Z', '2026-10-25T17:00:00Z');
    const sent = await sentFor(id);
    expect(sent.map(({ record, value }) => [record, value])).toEqual([
      ['b1', '2026-10-25'],
      ['b2', '2026-10-25'],
      ['b3', '2026-10-26'],
    ]);
    const notification: Notification = await test.owner.call(operations.notifications.readManaged, {
      params: { ...app.dev.params, id: sent[0]?.notification as string },
    });
    expect(notification).toMatchObject({
      title: 'Tomorrow at Fellgate {{north}}',
      body: 'Hello {user.name|hiker}, you arrive on 2026-10-25.',
      audience: { user: runa.id },
    });
    const { items } = await test.owner.call(operations.notifications.deliveriesManaged, {
      params: { ...app.dev.params, id: notification.id },
    });
    await eventually(async () => items.length === 1);
  });

  it('goes with its record: one that is moved, cancelled or cleared is not sent, and a moved one again for its new date', async () => {
    await book('b1', runa.id, '2026-07-14');
    await book('b2', runa.id, '2026-07-14', { state: 'cancelled' });
    await book('b3', runa.id, null);
    await book('b4', null, '2026-07-14');
    await pass(id, '2026-07-13T15:59:00Z', '2026-07-13T16:00:00Z');
    await pass(id, '2026-07-13T17:59:00Z', '2026-07-13T18:00:00Z');
    expect((await sentFor(id)).map(({ record, outcome }) => `${record} ${outcome}`)).toEqual(['b1 sent', 'b4 nobody']);
    await book('b1', runa.id, '2026-07-20');
    await pass(id, '2026-07-19T15:59:00Z', '2026-07-19T16:00:00Z');
    expect((await sentFor(id)).map(({ record, value }) => `${record} ${value}`)).toEqual([
      'b1 2026-07-14',
      'b1 2026-07-20',
      'b4 2026-07-14',
    ]);
  });

  it('is not made up for long after, and not for a record whose evening has passed', async () => {
    await book('b1', runa.id, '2026-07-14');
    await pass(id, '2026-07-13T10:00:00Z', '2026-07-14T05:00:00Z');
    expect(await sentFor(id), 'thirteen hours late').toEqual([]);
    await pass(id, '2026-07-13T16:10:00Z', '2026-07-13T16:20:00Z');
    expect(await sentFor(id)).toEqual([]);
  });

  it('shows who gets what next, from where, and why somebody would not', async () => {
    const stranded = await signUp(test, app.dev.clientKey, 'no-phone');
    const day = (ahead: number) => new Date(Date.now() + ahead * 86_400_000).toISOString().slice(0, 10);
    await book('b1', runa.id, day(3));
    await book('b2', kenji.id, day(3));
    await book('b3', stranded.id, day(9));
    await book('b4', runa.id, day(-3));
    expect(await next(id)).toEqual([
      expect.objectContaining({
        record: 'b1',
        zone: 'Europe/Oslo',
        title: 'Tomorrow at Fellgate {north}',
        reach: '1 device',
        userId: runa.id,
      }),
      expect.objectContaining({ record: 'b2', zone: 'America/New_York', body: expect.stringMatching(/^Hello \S+, you arrive on/) }),
      expect.objectContaining({ record: 'b3', zone: 'UTC', reach: 'The user has no device.' }),
    ]);
    const preview = { ...EVENING, zone: 'Asia/Tokyo', to: 'ownerId' };
    const { items } = await test.owner.call(own.preview, { params: app.dev.params, body: preview as never });
    expect(items[0]).toMatchObject({ zone: 'Asia/Tokyo', dueAt: `${day(2)}T09:00:00.000Z` });
  });

  it('before a time is due so many minutes before it, whatever the clock', async () => {
    const { id: soon } = await add({ ...SOON, minutesBefore: 90 });
    await put('bookings/b9', { hut: 'fellgate', ownerId: kenji.id, checkIn: '2026-07-14T12:00:00Z', state: 'paid' });
    await pass(soon, '2026-07-14T10:29:00Z', '2026-07-14T10:29:59Z');
    expect(await sentFor(soon)).toEqual([]);
    await pass(soon, '2026-07-14T10:29:59Z', '2026-07-14T10:30:00Z');
    expect((await sentFor(soon)).map(({ record, outcome }) => `${record} ${outcome}`)).toEqual(['b9 sent']);
  });

  it('is looked for by the service itself', async () => {
    const { id: soon } = await add({ ...SOON, minutesBefore: 60 });
    await put('bookings/b9', { hut: 'fellgate', ownerId: runa.id, checkIn: new Date(Date.now() + 3_600_500).toISOString(), state: 'paid' });
    const environment = await test.service.parts.directory.environment(app.name, 'dev');
    const sent = await eventually(async () => {
      await lookForDue(test.service.parts, store, environment);
      const [one] = await sentFor(soon);
      return one;
    }, 10_000);
    expect(sent).toMatchObject({ record: 'b9', outcome: 'sent' });
  });

  it('is refused with what is wrong: another kind of field, a wrong clock, somebody who is no user, unknown words', async () => {
    const refused = (changes: object) => add({ ...EVENING, ...changes }).then(JSON.stringify, ({ detail }) => detail);
    expect(await refused({ field: 'state' })).toContain('`state` of `bookings` is no date or time');
    expect(await refused({ field: 'checkIn' })).toContain('`checkIn` is a time');
    expect(await refused({ at: undefined })).toContain('`arrives` is a date');
    expect(await refused({ to: 'hut' })).toContain('`hut` of `bookings` names no user');
    expect(await refused({ body: '{record.hutt.name}' })).toContain('record.hut');
    expect(await refused({ filter: 'stat = 1' })).toContain('There is no field `stat`');
    expect(await refused({ collection: 'bookingz' })).toContain('bookingz');
    expect(await refused({ title: undefined })).toContain('needs a title');
  });

  it('tells the team when its field is gone, and what a record lacks', async () => {
    await book('b1', runa.id, '2026-07-14', { hut: null });
    await pass(id, '2026-07-13T15:59:00Z', '2026-07-13T16:00:00Z');
    expect(await sentFor(id)).toMatchObject([
      { record: 'b1', outcome: 'failed', reason: expect.stringContaining('`record.hut.name` has no value') },
    ]);
    const change = (body: object) =>
      test.owner.call(operations.collections.change, {
        params: { ...app.dev.params, collection: 'bookings' },
        query: {},
        body: body as never,
      });
    await change({ change: 'rename', name: 'arrives', to: 'comes' });
    await pass(id, '2026-07-13T15:59:00Z', '2026-07-13T16:00:00Z');
    const [listed] = (await test.owner.call(own.list, { params: app.dev.params })).items;
    expect(listed?.problem).toContain('`arrives`');
    await change({ change: 'rename', name: 'comes', to: 'arrives' });
  });
});
