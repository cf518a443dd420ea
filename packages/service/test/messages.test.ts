import { createECDH, randomBytes, randomUUID } from 'node:crypto';
import { setTimeout as sleep } from 'node:timers/promises';
import { type Notification, operations } from '@orchard/contract';
import { SMS_ACCOUNT } from '@orchard/simulators';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { deliveryTable } from '../src/messages/notifications/tables.js';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
type Phone = { id: string; received: number[] };

const send = (body: object, headers: Record<string, string> = {}) =>
  test.app('POST', '/notifications', { key: app.dev.serverKey, body, headers });
const status = async (id: string): Promise<Notification> =>
  (await test.app('GET', `/notifications/${id}`, { key: app.dev.serverKey })).body;
const turn = (id: string, verb: string) => test.app('POST', `/notifications/${id}/${verb}`, { key: app.dev.serverKey });
const until = (id: string, holds: (sent: Notification) => boolean, withinMs = 15_000) =>
  eventually(async () => {
    const now = await status(id);
    return holds(now) && now;
  }, withinMs);
const done = (id: string) => until(id, ({ state }) => state === 'done');
const preview = (body: object) => test.owner.call(operations.notifications.previewManaged, { params: app.dev.params, body: body as never });
const deliveriesOf = async (id: string) =>
  (await test.app('GET', `/notifications/${id}/deliveries`, { key: app.dev.serverKey })).body.items;

/** A device that subscribes at the simulated web push network and notes when messages come. */
async function phone(changes: object = {}, token?: string): Promise<Phone> {
  const { applicationServerKey } = (await test.app('GET', '/push-key', { key: app.dev.clientKey })).body;
  const { id: subscription, endpoint } = test.simulators.network.subscribe(applicationServerKey);
  const received: number[] = [];
  test.simulators.network.listen(subscription, () => received.push(Date.now()));
  const id = randomUUID();
  const registered = await test.app('PUT', `/devices/${id}`, {
    key: app.dev.clientKey,
    ...(token ? { token } : {}),
    body: {
      platform: 'ios',
      appVersion: '1.0',
      os: 'iOS 19',
      locale: 'en-GB',
      timeZone: 'Europe/London',
      permission: 'granted',
      subscription: {
        endpoint,
        keys: { p256dh: createECDH('prime256v1').generateKeys('base64url'), auth: randomBytes(16).toString('base64url') },
      },
      ...changes,
    },
  });
  expect(registered.status).toBe(201);
  return { id, received };
}
const follow = (device: string, topic: string, token?: string) =>
  test.app('PUT', `/devices/${device}/topics/${encodeURIComponent(topic)}`, { key: app.dev.clientKey, ...(token ? { token } : {}) });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());
beforeEach(() => test.simulators.network.setFault({ mode: 'none' }));

describe('an audience', () => {
  let phones: Record<'both' | 'weather' | 'huts' | 'none', Phone>;
  const reached = async (audience: object) => {
    const { body } = await send({ title: 'x', audience });
    await done(body.id);
    const targets = (await deliveriesOf(body.id)).map(({ target }: { target: string }) => target);
    return Object.entries(phones)
      .flatMap(([name, { id }]) => (targets.includes(id) ? [name] : []))
      .join(' ');
  };
  beforeAll(async () => {
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    phones = {
      both: await phone({ country: 'NO' }),
      weather: await phone({ platform: 'android' }),
      huts: await phone({}, runa.token),
      none: await phone(),
    };
    await follow(phones.both.id, 'ridge-weather');
    await follow(phones.both.id, 'huts/fellgate');
    await follow(phones.weather.id, 'ridge-weather');
    // A topic that a user follows reaches every device of theirs.
    expect((await test.app('PUT', '/users/me/topics/huts%2Ffellgate', { key: app.dev.clientKey, token: runa.token })).status).toBe(204);
  });
  it.each([
    [{ topics: { any: ['ridge-weather', 'huts/fellgate'] } }, 'both weather huts'],
    [{ topics: { all: ['ridge-weather', 'huts/fellgate'] } }, 'both'],
    [{ topics: { any: ['ridge-weather'], not: ['huts/fellgate'] } }, 'weather'],
    [{ filter: "platform = 'android'" }, 'weather'],
    [{ topics: { any: ['ridge-weather'] }, filter: "country = 'NO'" }, 'both'],
    [{ everyone: true }, 'both weather huts none'],
  ])('of %j is %s', async (audience, names) => expect(await reached(audience)).toBe(names));

  it('may name users and devices one by one; one that is not there stops it all', async () => {
    expect(await reached({ devices: [phones.both.id, phones.none.id] })).toBe('both none');
    expect(await send({ title: 'x', audience: { devices: [phones.both.id, randomUUID()] } })).toMatchObject({
      status: 404,
      body: { detail: expect.stringContaining('Nothing was sent') },
    });
  });

  it('is previewed by platform, with who is not reached and why, and how large it is', async () => {
    const off = await phone({ permission: 'denied', platform: 'android' });
    const retired = await phone();
    await test.app('DELETE', `/devices/${retired.id}`, { key: app.dev.clientKey });
    const seen = await preview({ title: 'Ridge closed', audience: { devices: [phones.both.id, phones.weather.id, off.id, retired.id] } });
    expect(seen).toMatchObject({
      total: 4,
      reachable: 2,
      sms: null,
      sizes: [{ gateway: 'web-push', mostBytes: 3993, bytes: expect.any(Number) }],
    });
    expect(seen.platforms).toEqual(
      expect.arrayContaining([
        { platform: 'ios', gateway: 'web-push', count: 1 },
        { platform: 'android', gateway: 'web-push', count: 1 },
      ]),
    );
    expect(seen.unreachable).toEqual(
      expect.arrayContaining([
        { platform: 'android', reason: 'The person does not allow notifications.', count: 1 },
        { platform: 'ios', reason: 'The device is retired.', count: 1 },
      ]),
    );
    expect((await preview({ title: 'x', audience: { filter: "platform = 'desktop'" } })).total).toBe(0);
  });

  it.each([
    [{ filter: "platform = 'desktop'" }, 'audience-empty', 'Nobody'],
    [{ topics: { any: ['nobody-follows'] } }, 'audience-empty', 'Nobody'],
    [{ filter: "plattform = 'ios'" }, 'malformed-filter', 'platform'],
    [{ phones: ['+12025550142'] }, 'invalid-input', 'goes with'],
    [{ topics: {} }, 'invalid-input', ''],
    [{ everyone: true, filter: "platform = 'ios'" }, 'invalid-input', ''],
  ])('of %j is refused', async (audience, problem, words) => {
    const refused = await send({ title: 'x', audience });
    expect(refused).toMatchObject({ status: 422, body: { type: `/docs/problems/${problem}`, detail: expect.stringContaining(words) } });
    expect((await test.owner.call(operations.notifications.list, { params: app.dev.params, query: { limit: 1 } })).items[0]?.id).not.toBe(
      refused.body.id,
    );
  });
});

describe('a topic', () => {
  it('with a role takes only users who have it', async () => {
    const params = { ...app.dev.params, topic: 'rescue' };
    expect(await test.owner.call(operations.topics.put, { params, body: { title: 'Rescue', role: 'rescuer' } })).toMatchObject({
      name: 'rescue',
      role: 'rescuer',
      devices: 0,
    });
    const tuva = await signUp(test, app.dev.clientKey, 'tuva');
    const { id } = await phone({}, tuva.token);
    expect(await follow(id, 'rescue', tuva.token)).toMatchObject({
      status: 403,
      body: { detail: 'The topic rescue is for users with the role rescuer.' },
    });
    await test.owner.call(operations.users.patch, { params: { ...app.dev.params, user: tuva.id }, body: { roles: ['rescuer'] } });
    await eventually(async () => (await follow(id, 'rescue', tuva.token)).status === 204, 15_000);
    expect((await test.app('GET', `/devices/${id}/topics`, { key: app.dev.clientKey, token: tuva.token })).body.items).toMatchObject([
      { topic: 'rescue', via: 'device' },
    ]);
    expect((await test.owner.call(operations.topics.read, { params })).devices).toBe(1);
    await test.owner.call(operations.topics.removeFollowers, { params, body: { devices: [id] } });
    expect((await test.owner.call(operations.topics.read, { params })).devices).toBe(0);
  });
  it('that is not there is made by its first follower, in an open environment only', async () => {
    const { id } = await phone();
    expect((await follow(id, 'new-topic')).status).toBe(204);
    const closed = (topic: string) => test.app('PUT', `/devices/${id}/topics/${topic}`, { key: app.live.clientKey });
    await test.app('PUT', `/devices/${id}`, {
      key: app.live.clientKey,
      body: { platform: 'ios', appVersion: '1', os: 'iOS 19', locale: 'en', timeZone: 'UTC', permission: 'unasked' },
    });
    expect(await closed('ridge-wether')).toMatchObject({
      status: 404,
      body: { detail: expect.stringContaining('orchard topic add ridge-wether') },
    });
    expect((await closed('Not a topic')).status).toBe(422);
  });
});

describe('a content', () => {
  it('differs by platform, language and person', async () => {
    const kenji = await signUp(test, app.dev.clientKey, 'kenji');
    const { id } = await phone({ platform: 'android', locale: 'nb-NO' }, kenji.token);
    const kind = {
      name: 'Own phone',
      platform: 'web' as const,
      model: 'Larch 5',
      os: 'Debian 12',
      appVersion: '2',
      locale: 'de-AT',
      timeZone: 'Europe/Vienna',
      person: { name: 'Ivo Crag', email: 'ivo@hikers.example', password: 'ridge-and-river' },
    };
    await test.simulators.connect({ address: test.address, clientKey: app.dev.clientKey }, [kind]);
    const [handset] = test.simulators.handsets();
    await handset?.signIn();
    await handset?.allow();
    const { body } = await send({
      title: 'Ridge closed',
      body: 'Hello {user.name|hiker}, stay at {data.hut}.',
      data: { hut: 'Fellgate' },
      badge: 4,
      platforms: { web: { link: '/huts/fellgate' } },
      locales: { de: { title: 'Grat gesperrt' } },
      audience: { devices: [id, handset?.state.deviceId] },
    });
    const got = await eventually(() => handset?.state.received[0]);
    expect(got).toMatchObject({ title: 'Grat gesperrt', body: 'Hello Ivo Crag, stay at Fellgate.', link: '/huts/fellgate', badge: 4 });
    handset?.open(got?.key ?? '');
    expect(await until(body.id, ({ deliveries }) => deliveries.opened === 1)).toMatchObject({
      deliveries: { total: 2, arrived: 1, accepted: 1 },
      state: 'done',
    });
    const { items } = await test.owner.call(operations.notifications.course, { params: { ...app.dev.params, id: body.id } });
    expect(
      items.reduce((sums, step) => [sums[0] + step.sent, sums[1] + step.arrived, sums[2] + step.opened] as [number, number, number], [
        0, 0, 0,
      ] as [number, number, number]),
    ).toEqual([2, 1, 1]);
  });

  it('is compared with a second one by a fixed share, the same group each time', async () => {
    const phones = await Promise.all(Array.from({ length: 24 }, () => phone({ platform: 'desktop' })));
    const { body } = await send({
      title: 'A',
      second: { share: 0.5, content: { title: 'B' } },
      audience: { filter: "platform = 'desktop'" },
    });
    const { groups, deliveries } = await done(body.id);
    expect(groups.map(({ variant }) => variant).sort()).toEqual(['a', 'b']);
    expect(groups.reduce((sum, { total }) => sum + total, 0)).toBe(deliveries.total);
    expect(deliveries.total).toBe(phones.length);
  });

  it.each([
    [{ title: 'Hello {user.nmae}' }, 'body.title', 'user.name'],
    [{ title: 'x', body: '{data.hut}' }, 'body.body', 'not in `data`'],
    [{ title: 'x', badge: -1 }, 'body.badge', ''],
    [{ title: 'x', badge: '+2' }, 'body.badge', ''],
    [{ title: 'x', picture: 'http://x.example/a.png' }, 'body.picture', ''],
    [{ title: 'x', locales: { 'not a tag': { title: 'y' } } }, 'body.locales', ''],
    [{ title: 'x', start: { at: '2020-01-01T00:00:00.000Z' } }, 'body.start.at', 'is in the past'],
    [{ title: 'x', start: { local: '2020-01-01T18:00' } }, 'body.start.local', 'in the past in every time zone'],
    [{ title: 'x', quiet: { from: '25:00', to: '07:00' } }, 'body.quiet.from', ''],
    [{ body: 'no title' }, 'body.title', ''],
  ])('like %j is refused by the name of the field', async (content, path, words) => {
    const refused = await send({ ...content, audience: { everyone: true } });
    expect(refused.status).toBe(422);
    expect(refused.body.fields.map((field: { path: string }) => field.path).join(' ')).toContain(path);
    expect(JSON.stringify(refused.body)).toContain(words);
  });
});

describe('a notification', () => {
  it('is written anew while it is kept, keeps its place in the list, and is sent when it is not a draft any more', async () => {
    const { id } = await phone();
    const key = app.dev.serverKey;
    const rewrite = (at: string, body: object) =>
      test.app('PUT', `/notifications/${at}`, { key, body: { audience: { device: id }, ...body } });
    const { body } = await send({ title: 'First', draft: true, audience: { device: id } });
    expect((await rewrite(body.id, { title: 'Second', badge: 3, draft: true })).body).toMatchObject({
      id: body.id,
      state: 'draft',
      title: 'Second',
      badge: 3,
      createdAt: body.createdAt,
    });
    expect(await rewrite(body.id, { title: '{nobody.name}', draft: true })).toMatchObject({ status: 422 });
    expect(await rewrite(body.id, { title: 'Now', audience: { filter: "model = 'none such'" } })).toMatchObject({
      status: 422,
      body: { type: '/docs/problems/audience-empty' },
    });
    expect((await test.app('GET', `/notifications/${body.id}`, { key })).body).toMatchObject({
      state: 'draft',
      title: 'Second',
    });
    await rewrite(body.id, { title: 'Third' });
    expect(await done(body.id)).toMatchObject({ title: 'Third', deliveries: { accepted: 1 } });
    expect(await rewrite(body.id, { title: 'Fourth' })).toMatchObject({ status: 409, body: { type: '/docs/problems/wrong-state' } });
    expect(await rewrite('01a20000-0000-7000-8000-000000000000', { title: 'x' })).toMatchObject({ status: 404 });
  });

  it('goes out at the time it was moved to, not the one before', async () => {
    const { id, received } = await phone();
    const inMs = (ms: number) => ({ start: { at: new Date(Date.now() + ms).toISOString() } });
    const { body } = await send({ title: 'Soon', ...inMs(600), audience: { device: id } });
    await test.app('PUT', `/notifications/${body.id}`, {
      key: app.dev.serverKey,
      body: { title: 'In an hour', ...inMs(3_600_000), audience: { device: id } },
    });
    await new Promise((resolve) => setTimeout(resolve, 1500));
    expect(received).toHaveLength(0);
    expect((await test.app('GET', `/notifications/${body.id}`, { key: app.dev.serverKey })).body).toMatchObject({ state: 'scheduled' });
  });

  it('is kept as a draft until it is started, and thrown away only before', async () => {
    const { id, received } = await phone();
    const { body } = await send({ title: 'Later', draft: true, audience: { device: id } });
    expect(body).toMatchObject({ state: 'draft', deliveries: { total: 0 } });
    await sleep(100);
    expect(received).toHaveLength(0);
    await turn(body.id, 'start');
    await done(body.id);
    expect(received).toHaveLength(1);
    expect(await turn(body.id, 'start')).toMatchObject({
      status: 409,
      body: { detail: 'The notification is done; only one that is draft or scheduled can be started.' },
    });
  });

  it('goes out at its time', async () => {
    const { id, received } = await phone();
    const at = Date.now() + 1200;
    const { body } = await send({ title: 'At its time', start: { at: new Date(at).toISOString() }, audience: { device: id } });
    expect(body.state).toBe('scheduled');
    await done(body.id);
    expect(received[0]).toBeGreaterThanOrEqual(at);
  });

  it('waits for a local time in each zone, and for the end of quiet hours', async () => {
    const oslo = await phone({ timeZone: 'Europe/Oslo' });
    const denver = await phone({ timeZone: 'America/Denver' });
    const tomorrow = new Date(Date.now() + 2 * 86_400_000).toISOString().slice(0, 10);
    const local = (await send({ title: 'x', start: { local: `${tomorrow}T18:00` }, audience: { devices: [oslo.id, denver.id] } })).body;
    expect(local).toMatchObject({ state: 'scheduled' });
    await turn(local.id, 'start');
    const byTarget = new Map(
      (await deliveriesOf(local.id)).map((one: { target: string; nextAttemptAt: string }) => [one.target, Date.parse(one.nextAttemptAt)]),
    );
    expect((byTarget.get(denver.id) as number) - (byTarget.get(oslo.id) as number)).toBe(8 * 3_600_000);
    const hour = (shift: number) => `${String((new Date().getUTCHours() + shift + 24) % 24).padStart(2, '0')}:00`;
    const utc = await phone({ timeZone: 'UTC' });
    const quiet = (await send({ title: 'x', quiet: { from: hour(-1), to: hour(2) }, audience: { device: utc.id } })).body;
    const [waiting] = await deliveriesOf(quiet.id);
    expect(new Date(waiting.nextAttemptAt).getUTCHours()).toBe(Number(hour(2).slice(0, 2)));
    expect(utc.received).toHaveLength(0);
  });

  it('keeps its pace, is stopped, and goes on where it was', async () => {
    const phones = await Promise.all(Array.from({ length: 30 }, () => phone({ appVersion: '9.9' })));
    const count = () => phones.reduce((sum, { received }) => sum + received.length, 0);
    const began = Date.now();
    const { body } = await send({ title: 'Slowly', perSecond: 10, audience: { filter: "appVersion = '9.9'" } });
    await eventually(() => count() >= 5);
    expect((await turn(body.id, 'stop')).body.state).toBe('stopped');
    await sleep(400);
    const atStop = count();
    expect(atStop).toBeLessThan(30);
    await sleep(600);
    expect(count()).toBe(atStop);
    await turn(body.id, 'resume');
    expect((await done(body.id)).deliveries.accepted).toBe(30);
    expect(phones.map(({ received }) => received.length)).toEqual(phones.map(() => 1));
    expect(Date.now() - began).toBeGreaterThan(2500);
  });

  it('is sent once, however often the same call is made', async () => {
    const { id, received } = await phone();
    const key = { 'idempotency-key': randomUUID() };
    const body = { title: 'Once', audience: { device: id } };
    const answers = await Promise.all([send(body, key), send(body, key), send(body, key)]);
    expect(new Set(answers.map((answer) => answer.body.id)).size).toBe(1);
    await done(answers[0]?.body.id);
    expect(received).toHaveLength(1);
    expect(await send({ ...body, title: 'Other' }, key)).toMatchObject({ status: 422, body: { type: '/docs/problems/key-reused' } });
  });

  it('expires when the network does not take it in time', async () => {
    const { id } = await phone();
    test.simulators.network.setFault({ mode: 'refuse', status: 503 });
    const { body } = await send({ title: 'x', ttlS: 2, audience: { device: id } });
    expect(await done(body.id)).toMatchObject({
      deliveries: { expired: 1, failed: 0 },
      reasons: [{ state: 'expired', reason: expect.stringContaining('It expired after') }],
    });
  });

  it('falls back to SMS for those whose phone has not answered', async () => {
    await test.owner.call(operations.gateways.create, {
      params: app.dev.params,
      body: {
        kind: 'smpp',
        name: 'heron',
        stage: 'live',
        settings: { host: '127.0.0.1', port: test.simulators.sms.port, systemId: SMS_ACCOUNT.systemId, sender: 'Quillfell' },
        password: SMS_ACCOUNT.password,
      } as never,
    });
    const people = await Promise.all(['aino', 'bram', 'chiara'].map((name) => signUp(test, app.dev.clientKey, name)));
    const numbers = ['+12025550101', '+12025550102', null];
    const phones: Phone[] = [];
    for (const [i, person] of people.entries()) {
      if (numbers[i])
        await test.owner.call(operations.users.patch, { params: { ...app.dev.params, user: person.id }, body: { phone: numbers[i] } });
      phones.push(await phone({ model: 'Fallback' }, person.token));
    }
    const { body } = await send({
      title: 'Storm',
      body: 'Leave the ridge.',
      fallBack: { afterMin: 1, way: 'sms', body: 'STORM. Leave the ridge.' },
      audience: { filter: "model = 'Fallback'" },
    });
    await until(body.id, ({ deliveries }) => deliveries.accepted === 3);
    // Aino's phone tells that it got it, so only the others are reached another way.
    await test.app('POST', `/devices/${phones[0]?.id}/reports`, {
      key: app.dev.clientKey,
      token: (people[0] as { token: string }).token,
      body: { items: [{ notification: body.id, event: 'received' }] },
    });
    const { jobs, directory } = test.service.parts;
    const environment = await directory.environment(app.name, 'dev');
    await environment.db.run(
      `UPDATE ${environment.db.of(deliveryTable)} SET sentAt = sentAt - INTERVAL 61 SECOND WHERE notificationId = ?`,
      [body.id],
    );
    await jobs.hasten(environment, 'fall-back');
    const ended = await done(body.id);
    expect(ended.groups.filter(({ way }) => way === 'sms')).toMatchObject([{ total: 2, skipped: 1 }]);
    expect(test.simulators.sms.textsOf('+12025550102').at(-1)?.text).toBe('STORM. Leave the ridge.');
    expect(test.simulators.sms.textsOf('+12025550101')).toHaveLength(0);
    expect(ended.reasons).toContainEqual({ state: 'skipped', reason: 'The user has no phone number.', count: 1 });
  });

  it('does not show on a phone that has changed hands', async () => {
    const [old, next] = [await signUp(test, app.dev.clientKey, 'old'), await signUp(test, app.dev.clientKey, 'next')];
    const { id, received } = await phone({}, old.token);
    const { body } = await send({
      title: 'For the old owner',
      draft: false,
      start: { at: new Date(Date.now() + 600).toISOString() },
      quiet: undefined,
      audience: { device: id },
    });
    test.simulators.network.setFault({ mode: 'refuse', status: 503 });
    await until(body.id, ({ reasons }) => reasons.length > 0);
    const registration = (await test.app('GET', `/devices/${id}`, { key: app.dev.clientKey, token: old.token })).body;
    const {
      db: { name: database },
    } = await test.service.parts.directory.environment(app.name, 'dev');
    await test.service.parts.database.run(`UPDATE \`${database}\`._devices SET userId = ? WHERE id = ?`, [next.id, registration.id]);
    test.simulators.network.setFault({ mode: 'none' });
    expect(await done(body.id)).toMatchObject({
      deliveries: { failed: 1 },
      reasons: [{ reason: 'The device belongs to another user now.' }],
    });
    expect(received).toHaveLength(0);
  });
});

describe('a device', () => {
  it('tells what it received only once, and shows all it was sent', async () => {
    const { id } = await phone();
    const { body } = await send({ title: 'Told', audience: { device: id } });
    await done(body.id);
    const report = (event: string) =>
      test.app('POST', `/devices/${id}/reports`, { key: app.dev.clientKey, body: { items: [{ notification: body.id, event }] } });
    expect([
      (await report('received')).body.noted,
      (await report('received')).body.noted,
      (await report('opened')).body.noted,
      (await report('opened')).body.noted,
    ]).toEqual([1, 0, 1, 0]);
    const { items } = await test.owner.call(operations.devices.deliveries, { params: { ...app.dev.params, device: id }, query: {} });
    expect(items).toMatchObject([{ notification: body.id, title: 'Told', state: 'arrived', openedAt: expect.any(String) }]);
  });

  it('tells which button was chosen, which is counted', async () => {
    const { id } = await phone();
    const { body } = await send({ title: 'Beds', audience: { device: id } });
    await done(body.id);
    const items = [{ notification: body.id, event: 'opened', button: 'confirm' }];
    await test.app('POST', `/devices/${id}/reports`, { key: app.dev.clientKey, body: { items } });
    const at = { ...app.dev.params, id: body.id };
    expect((await test.owner.call(operations.notifications.readManaged, { params: at })).chosen).toEqual([{ button: 'confirm', count: 1 }]);
    const chose = await test.owner.call(operations.notifications.deliveriesManaged, {
      params: at,
      query: { filter: "button = 'confirm'" },
    });
    expect(chose.items).toMatchObject([{ target: id, button: 'confirm' }]);
  });

  it('says why push could not be turned on, where that is more than that it was not', async () => {
    const registration = { platform: 'web', appVersion: '1', os: 'x', locale: 'en', timeZone: 'UTC', permission: 'granted' };
    const pushTrouble = 'Registration failed - push service not available';
    await test.app('PUT', '/devices/silent-tablet', { key: app.dev.clientKey, body: { ...registration, pushTrouble } });
    const device = await test.owner.call(operations.devices.readManaged, { params: { ...app.dev.params, device: 'silent-tablet' } });
    expect(device).toMatchObject({ reachable: false, reach: pushTrouble });
  });

  it('is let go at sign-out, and retired when it was not seen for the set time', async () => {
    const uma = await signUp(test, app.dev.clientKey, 'uma');
    const { id } = await phone({}, uma.token);
    await test.app('DELETE', '/sessions/current', { key: app.dev.clientKey, token: uma.token, headers: { 'orchard-device': id } });
    const device = () => test.owner.call(operations.devices.readManaged, { params: { ...app.dev.params, device: id } });
    expect((await device()).userId).toBeNull();
    await test.owner.call(operations.sms.patchSettings, { params: app.dev.params, body: { retireAfterDays: 30 } });
    const environment = await test.service.parts.directory.environment(app.name, 'dev');
    await test.service.parts.database.run(
      `UPDATE \`${environment.db.name}\`._devices SET lastSeenAt = NOW() - INTERVAL 31 DAY WHERE id = ?`,
      [id],
    );
    const { tendDevices } = await import('../src/messages/devices/tending.js');
    await tendDevices(test.service.parts, environment);
    expect(await device()).toMatchObject({ reachable: false, reach: 'Retired: It has not been seen for 30 days.' });
  });
});
