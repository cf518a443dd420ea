import { createECDH, randomUUID } from 'node:crypto';
import { operations } from '@orchard/contract';
import { type Handset, newHandset } from '@orchard/simulators';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { startService } from '../src/service.js';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';
import pino from 'pino';

let test: TestService;
let app: TestApp;
let phones: Handset[];
const PERSON = (name: string) => ({ name, email: `${name.toLowerCase()}@hikers.example`, password: 'ridge-and-river' });
const kind = (name: string) => ({
  name: `${name}’s phone`,
  platform: 'android' as const,
  model: 'Larch 5',
  os: 'Android 16',
  appVersion: '2.4.0',
  locale: 'nb-NO',
  timeZone: 'Europe/Oslo',
  person: PERSON(name),
});
const send = (body: object) => test.app('POST', '/notifications', { key: app.dev.serverKey, body });
/** Accepted by the network, or arrived by the handset's own word, which may come at any moment after. */
const through = ({ deliveries }: { deliveries: { accepted: number; arrived: number } }) => deliveries.accepted + deliveries.arrived;
const status = async (id: string) => (await test.app('GET', `/notifications/${id}`, { key: app.dev.serverKey })).body;
const done = (id: string) =>
  eventually(async () => {
    const body = await status(id);
    return body.deliveries.queued === 0 && body;
  });
const register = (id: string, changes: object = {}, token?: string) =>
  test.app('PUT', `/devices/${id}`, {
    key: app.dev.clientKey,
    ...(token ? { token } : {}),
    body: {
      platform: 'ios',
      appVersion: '1.0',
      os: 'iOS 19',
      locale: 'en-GB',
      timeZone: 'Europe/London',
      permission: 'unasked',
      ...changes,
    },
  });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await test.simulators.connect({ address: test.address, clientKey: app.dev.clientKey }, ['Runa', 'Kenji'].map(kind));
  phones = test.simulators.handsets();
  for (const phone of phones) {
    await phone.signIn();
    await phone.allow();
  }
});
afterAll(() => test.stop());
beforeEach(() => test.simulators.network.setFault({ mode: 'none' }));

const received = (phone: Handset | undefined, id: string) =>
  phone?.state.received.filter(({ notification }) => notification === id).length ?? 0;

describe('a device', () => {
  it('is registered, renewed and read, and says whether it can be reached', async () => {
    const id = randomUUID();
    expect(await register(id)).toMatchObject({
      status: 201,
      body: { id, reachable: false, reach: 'The person has not been asked to allow notifications.', client: 'hiker-ios' },
    });
    expect(await register(id, { permission: 'denied' })).toMatchObject({
      status: 200,
      body: { reach: 'The person does not allow notifications.' },
    });
    expect((await test.app('GET', `/devices/${id}`, { forgetful: true, key: app.dev.clientKey })).body).not.toHaveProperty('endpoint');
    expect((await test.app('DELETE', `/devices/${id}`, { key: app.dev.clientKey })).status).toBe(204);
    expect((await test.app('GET', `/devices/${id}`, { key: app.dev.clientKey })).body.reach).toContain('Retired');
  });

  it('of somebody signed in is closed to others', async () => {
    const wren = await signUp(test, app.dev.clientKey, 'wren');
    const id = randomUUID();
    await register(id, {}, wren.token);
    expect((await test.app('GET', `/devices/${id}`, { forgetful: true, key: app.dev.clientKey })).status).toBe(403);
    expect((await test.app('GET', `/devices/${id}`, { key: app.dev.clientKey, token: wren.token })).body.userId).toBe(wren.id);
  });

  const keys = () => {
    const { state } = phones[0] as Handset;
    return { p256dh: `B${'A'.repeat(86)}`, auth: state.auth };
  };
  it.each([
    [{ timeZone: 'Europe/Nowhere' }, 'body.timeZone'],
    [{ locale: 'not a locale' }, 'body.locale'],
    [{ platform: 'fridge' }, 'body.platform'],
    [{ colour: 'red' }, 'body.colour'],
    [{ permission: undefined }, 'body.permission'],
    [{ subscription: { endpoint: 'ftp://push.example/x', keys: {} } }, 'body.subscription.endpoint'],
    [{ subscription: { endpoint: 'https://push.example/x', keys: { p256dh: 'short', auth: 'short' } } }, 'body.subscription.keys.p256dh'],
  ])('with %j is refused by the name of the field', async (changes, path) => {
    const refused = await register(randomUUID(), changes);
    expect(refused.status).toBe(422);
    expect(refused.body.fields.map((field: { path: string }) => field.path)).toContain(path);
  });

  it.each(['http://127.0.0.1:9/x', 'https://10.1.2.3/x', 'https://[::1]/x', 'https://localhost/x', 'http://push.example/x'])(
    'may not send the service to %s',
    async (endpoint) => {
      expect(await register(randomUUID(), { subscription: { endpoint, keys: keys() } })).toMatchObject({
        status: 422,
        body: { fields: [{ path: 'body.subscription.endpoint' }] },
      });
    },
  );
});

describe('a notification', () => {
  it('goes to one user or one device, and to nobody else', async () => {
    const [runa, kenji] = phones as [Handset, Handset];
    const { items } = await test.owner.call(operations.users.list, {
      params: app.dev.params,
      query: { filter: "email = 'runa@hikers.example'" },
    });
    const toUser = (await send({ title: 'For Runa', audience: { user: items[0]?.id } })).body;
    const toDevice = (await send({ title: 'For a device', audience: { device: kenji.state.deviceId } })).body;
    expect([(await done(toUser.id)).deliveries.total, through(await done(toUser.id))]).toEqual([1, 1]);
    expect([(await done(toDevice.id)).deliveries.total, through(await done(toDevice.id))]).toEqual([1, 1]);
    expect([runa, kenji].map((phone) => [received(phone, toUser.id), received(phone, toDevice.id)])).toEqual([
      [1, 0],
      [0, 1],
    ]);
  });

  it.each([
    [{ audience: { everyone: true } }, 'body.title'],
    [{ title: 'x' }, 'body.audience'],
    [{ title: 'x', audience: { everyone: true, user: randomUUID() } }, 'body.audience'],
    [{ title: 'x', audience: { everyone: true }, badge: -1 }, 'body.badge'],
    [{ title: 'x', audience: { everyone: true }, link: 'huts' }, 'body.link'],
    [{ title: 'x', audience: { everyone: true }, colour: 'red' }, 'body.colour'],
    [{ title: 'x', audience: { user: 'runa' } }, 'body.audience'],
  ])('like %j is refused', async (body, path) => {
    const refused = await send(body);
    expect(refused.status).toBe(422);
    expect(refused.body.fields.some((field: { path: string }) => field.path.startsWith(path))).toBe(true);
  });

  it('over what a push network takes is refused before it is stored, one for nobody that exists too', async () => {
    expect(await send({ title: 'x', data: { text: 'y'.repeat(4000) }, audience: { everyone: true } })).toMatchObject({
      status: 422,
      body: { type: '/docs/problems/message-too-large' },
    });
    expect(await send({ title: 'x', audience: { user: randomUUID() } })).toMatchObject({ status: 404 });
    expect(await send({ title: 'x', audience: { device: 'no-such-device' } })).toMatchObject({ status: 404 });
  });

  it('waits as long as a throttling network asks, then arrives once', async () => {
    test.simulators.network.setFault({ mode: 'throttle', retryAfterS: 1, count: 1 });
    const { id } = (await send({ title: 'Patience', audience: { device: phones[0]?.state.deviceId } })).body;
    const waiting = await eventually(async () => (await status(id)).reasons[0] && (await status(id)));
    expect(waiting).toMatchObject({
      deliveries: { queued: 1 },
      reasons: [{ state: 'queued', reason: 'The push network answered 429: too many messages.' }],
    });
    expect(through(await done(id))).toBe(1);
    expect(received(phones[0], id)).toBe(1);
    const { items } = (await test.app('GET', `/notifications/${id}/deliveries`, { key: app.dev.serverKey })).body;
    expect(items).toMatchObject([{ attempts: 2, answer: 201, gateway: 'web-push' }]);
    const [first] = await test.service.parts.database.rows<{ createdAt: Date; updatedAt: Date }>(
      `SELECT n.createdAt, d.updatedAt FROM \`${(await test.service.parts.directory.environment(app.name, 'dev')).db.name}\`._deliveries d JOIN \`${(await test.service.parts.directory.environment(app.name, 'dev')).db.name}\`._notifications n ON n.id = d.notificationId WHERE n.id = ?`,
      [id],
    );
    expect((first?.updatedAt.getTime() ?? 0) - (first?.createdAt.getTime() ?? 0)).toBeGreaterThanOrEqual(1000);
  });

  it.each([
    ['a failing network', { mode: 'refuse', status: 503, count: 1 }, 'answered 503'],
    ['a dropped connection', { mode: 'drop', count: 1 }, 'cannot be reached'],
  ] as const)('is tried again after %s', async (_name, fault, words) => {
    test.simulators.network.setFault({ ...fault });
    const { id } = (await send({ title: 'Again', audience: { device: phones[0]?.state.deviceId } })).body;
    const waiting = await eventually(async () => (await status(id)).reasons[0]);
    expect(waiting.reason).toContain(words);
    expect(through(await done(id))).toBe(1);
    expect(received(phones[0], id)).toBe(1);
  });

  it('arrives through a slow network', async () => {
    test.simulators.network.setFault({ mode: 'slow', delayMs: 700, count: 1 });
    const { id } = (await send({ title: 'Slow', audience: { device: phones[0]?.state.deviceId } })).body;
    expect(through(await done(id))).toBe(1);
  });

  it.each([
    [400, 'answered 400'],
    [413, 'too large'],
  ])('that the network refuses with %i fails with the reason, and is not tried again', async (answer, words) => {
    test.simulators.network.setFault({ mode: 'refuse', status: answer, count: 1 });
    const { id } = (await send({ title: 'No', audience: { device: phones[0]?.state.deviceId } })).body;
    expect(await done(id)).toMatchObject({
      deliveries: { failed: 1 },
      reasons: [{ state: 'failed', reason: expect.stringContaining(words) }],
    });
  });

  it('retires a device whose subscription is over, by 410 or 404, until it registers again', async () => {
    const kenji = phones[1] as Handset;
    kenji.uninstall();
    const { id } = (await send({ title: 'Gone?', audience: { device: kenji.state.deviceId } })).body;
    expect(await done(id)).toMatchObject({
      deliveries: { failed: 1 },
      reasons: [{ reason: 'The push network answered 410: the subscription has ended.' }],
    });
    const device = () => test.owner.call(operations.devices.readManaged, { params: { ...app.dev.params, device: kenji.state.deviceId } });
    expect(await device()).toMatchObject({
      reachable: false,
      reach: 'Retired: The push network answered 410: the subscription has ended.',
    });
    await kenji.allow();
    expect(await device()).toMatchObject({ reachable: true, retiredAt: null });
    const unknown = randomUUID();
    const real = newHandset(kind('Nobody'));
    await register(unknown, {
      permission: 'granted',
      subscription: {
        endpoint: `${test.simulators.address}/push/unknown`,
        keys: { p256dh: createECDH('prime256v1').generateKeys('base64url'), auth: real.auth },
      },
    });
    await done((await send({ title: 'Gone?', audience: { device: unknown } })).body.id);
    expect(
      (await test.owner.call(operations.devices.readManaged, { params: { ...app.dev.params, device: unknown } })).retiredReason,
    ).toContain('404');
  });

  it('skips who does not allow it, and says so', async () => {
    await (phones[1] as Handset).forbid();
    const sent = (await send({ title: 'Only for those who want it', audience: { device: (phones[1] as Handset).state.deviceId } })).body;
    expect(sent).toMatchObject({
      deliveries: { total: 1, skipped: 1, queued: 0 },
      reasons: [{ state: 'skipped', reason: 'The person does not allow notifications.' }],
    });
    await (phones[1] as Handset).allow();
  });

  it('replaces a waiting notification with the same name', async () => {
    const runa = phones[0] as Handset;
    const subscription = runa.state.subscription as string;
    test.simulators.network.disconnect(subscription);
    for (const title of ['Wind 10 m/s', 'Wind 14 m/s'])
      await done((await send({ title, replaces: 'wind', audience: { device: runa.state.deviceId } })).body.id);
    const arrived: Buffer[] = [];
    test.simulators.network.listen(subscription, (body) => arrived.push(body));
    expect(arrived).toHaveLength(1);
  });
});

it('a stopping service finishes the calls it has taken, and records them', async () => {
  const own = await startTestService(inject('databaseUrl'));
  const { dev } = await makeApp(own, 'stopped');
  // Hashing passwords takes a while: these are under way when the stop comes.
  const calls = Array.from({ length: 4 }, (_, i) =>
    own.app('POST', '/users', { key: dev.clientKey, body: { email: `late${i}@hikers.example`, password: 'ridge-and-river' } }),
  );
  await eventually(async () => (await own.app('GET', '/push-key', { key: dev.clientKey })).status === 200);
  const {
    db: { name: database },
  } = await own.service.parts.directory.environment('stopped', 'dev');
  await own.service.stop();
  expect((await Promise.all(calls)).map(({ status }) => status)).toEqual([201, 201, 201, 201]);
  const again = await startService(own.config, pino({ level: 'silent' }));
  const [row] = await again.parts.database.rows<{ n: number }>(
    `SELECT COUNT(*) AS n FROM \`${database}\`._requests WHERE route = '/app/v1/users'`,
  );
  expect(row?.n).toBe(4);
  await again.stop();
  await own.simulators.stop();
});

it('waiting for its network survives a restart of the service', async () => {
  const own = await startTestService(inject('databaseUrl'));
  const place = (await makeApp(own, 'restarted')).dev;
  await own.simulators.connect({ address: own.address, clientKey: place.clientKey }, [kind('Runa')]);
  const phone = own.simulators.handsets()[0] as Handset;
  await phone.allow();
  own.simulators.network.setFault({ mode: 'refuse', status: 503 });
  const { body } = await own.app('POST', '/notifications', {
    key: place.serverKey,
    body: { title: 'Later', audience: { everyone: true } },
  });
  await eventually(async () => (await own.app('GET', `/notifications/${body.id}`, { key: place.serverKey })).body.reasons[0]);
  await own.service.stop();
  own.simulators.network.setFault({ mode: 'none' });
  const again = await startService(own.config, pino({ level: 'silent' }));
  await eventually(() => received(phone, body.id) === 1);
  await again.stop();
  await own.simulators.stop();
});
