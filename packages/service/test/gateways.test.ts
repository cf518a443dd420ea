import { generateKeyPairSync, randomUUID } from 'node:crypto';
import { type NewGateway, operations, Problem } from '@orchard/contract';
import { clientCertificate, MAIL_ACCOUNT, makeAuthority, readMapping, SMS_ACCOUNT, type Simulators } from '@orchard/simulators';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { freePort } from './ports.js';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let networks: Simulators;
const STORE_ID = 'example.quillfell.hiker';

type Input = Parameters<typeof create>[0];
const create = (body: NewGateway | object, params = app.dev.params) =>
  test.owner.call(operations.gateways.create, { params, body: body as NewGateway });
const refusal = async (work: Promise<unknown>): Promise<Problem> => {
  try {
    await work;
  } catch (error) {
    if (error instanceof Problem) return error;
    throw error;
  }
  throw new Error('It was not refused.');
};
const p12 = (changes: Partial<Parameters<typeof clientCertificate>[1]> = {}) =>
  clientCertificate(networks.authority, { packageIdentifier: STORE_ID, stage: 'live', password: 'larch', ...changes }).toString('base64');
const cairn = (changes: object = {}) => ({
  kind: 'certificate',
  name: 'cairn',
  stage: 'live',
  client: 'hiker-ios',
  settings: { address: networks.cairn.address, trust: networks.authority.certificate },
  certificate: p12(),
  password: 'larch',
  mapping: readMapping('cairn'),
  ...changes,
});
const tarn = (changes: object = {}) => ({
  kind: 'token',
  name: 'tarn',
  stage: 'live',
  client: 'hiker-android',
  settings: { address: networks.tarn.address, trust: networks.authority.certificate },
  keyFile: networks.tarn.openAccount('quillfell-hiker'),
  mapping: readMapping('tarn'),
  ...changes,
});
const smpp = (changes: object = {}) => ({
  kind: 'smpp',
  name: 'heron',
  stage: 'live',
  settings: {
    host: '127.0.0.1',
    port: networks.sms.port,
    systemId: SMS_ACCOUNT.systemId,
    sender: 'Quillfell',
    senders: { GB: '447700900999' },
    binds: 2,
    window: 20,
  },
  password: SMS_ACCOUNT.password,
  ...changes,
});
const smtp = (changes: object = {}) => ({
  kind: 'smtp',
  name: 'post',
  stage: 'live',
  settings: {
    host: 'localhost',
    port: networks.mail.port,
    trust: networks.authority.certificate,
    from: 'Quillfell Huts <huts@quillfell.example>',
    user: MAIL_ACCOUNT.user,
  },
  password: MAIL_ACCOUNT.password,
  ...changes,
});
const gateway = (name: string) => test.owner.call(operations.gateways.read, { params: { ...app.dev.params, gateway: name } });
const check = (name: string) => test.owner.call(operations.gateways.check, { params: { ...app.dev.params, gateway: name } });
const send = (body: object) => test.app('POST', '/notifications', { key: app.dev.serverKey, body });
const status = async (id: string) => (await test.app('GET', `/notifications/${id}`, { key: app.dev.serverKey })).body;
const settled = (id: string) =>
  eventually(async () => {
    const body = await status(id);
    return body.state === 'done' && body;
  });
const deliveriesOf = async (id: string) =>
  (await test.app('GET', `/notifications/${id}/deliveries`, { key: app.dev.serverKey })).body.items;
/** Calls to networks, in full, as soon as there are some. */
const outgoing = async (filter: string) => {
  const { params } = app.dev;
  const query = { filter: `direction = 'out' AND ${filter}`, sort: '-at' };
  const found = await eventually(async () => {
    const { items } = await test.owner.call(operations.telemetry.requests, { params, query });
    return items.length > 0 && items;
  });
  return Promise.all(found.map(({ id }) => test.owner.call(operations.telemetry.request, { params: { ...params, request: id } })));
};
let androidKey: string;
const register = (id: string, key: string, changes: object) =>
  test.app('PUT', `/devices/${id}`, {
    key,
    body: {
      platform: 'ios',
      appVersion: '1.0',
      os: 'iOS 19',
      locale: 'en-GB',
      timeZone: 'Europe/London',
      permission: 'granted',
      ...changes,
    },
  });

beforeAll(async () => {
  const bouncePort = await freePort();
  test = await startTestService(inject('databaseUrl'), { bouncePort }, { host: '127.0.0.1', port: bouncePort });
  networks = test.simulators;
  test.config.pushOrigins.push(networks.sms.httpAddress);
  app = await makeApp(test, 'quillfell-hiker');
  const { params } = app.dev;
  await test.owner.call(operations.clients.patch, { params: { ...params, client: 'hiker-ios' }, body: { packageIdentifier: STORE_ID } });
  const android = await test.owner.call(operations.clients.create, { params, body: { name: 'hiker-android', kind: 'android' } });
  androidKey = android.keys[0]?.key as string;
});
afterAll(() => test.stop());
beforeEach(() => {
  for (const { faults } of [networks.cairn, networks.tarn, networks.sms, networks.mail]) faults.set({ mode: 'none' });
});

describe('a certificate is refused before it is stored', () => {
  const DAY = 86_400_000;
  it.each([
    ['with a wrong password', () => ({ password: 'birch' }), 'password does not open'],
    ['without its private key', () => ({ certificate: p12({ withoutKey: true }) }), 'holds no private key'],
    [
      'when it has expired',
      () => ({ certificate: p12({ until: new Date(Date.now() - DAY), from: new Date(Date.now() - 2 * DAY) }) }),
      'expired at',
    ],
    ['when it is not yet valid', () => ({ certificate: p12({ from: new Date(Date.now() + DAY) }) }), 'not valid before'],
    [
      'of another app',
      () => ({ certificate: p12({ packageIdentifier: 'example.other' }) }),
      'is for example.other (UID); client `hiker-ios` is example.quillfell.hiker',
    ],
    ['of the trial stage in a live gateway', () => ({ certificate: p12({ stage: 'trial' }) }), 'trial certificate'],
    ['of the live stage in a trial gateway', () => ({ stage: 'trial' }), 'live certificate'],
    [
      'that is a PEM certificate',
      () => ({ certificate: Buffer.from(networks.authority.certificate).toString('base64') }),
      'PEM certificate without a private key',
    ],
    [
      'that is a service account',
      () => ({ certificate: Buffer.from(networks.tarn.openAccount('x')).toString('base64') }),
      'PKCS#12 file with certificate and private key',
    ],
  ])('%s', async (_what, changes, words) => {
    const problem = await refusal(create(cairn(changes())));
    expect([problem.problem, problem.detail]).toEqual(['credential-refused', expect.stringContaining(words)]);
    expect((await refusal(gateway('cairn'))).problem).toBe('not-found');
  });
});

describe('a key file is refused before it is stored', () => {
  const signed = (keyFile: string) => tarn({ mapping: readMapping('tarn-signed'), keyFile });
  const pem = (type: 'rsa' | 'ec', options: object) =>
    generateKeyPairSync(type as 'ec', options as { namedCurve: string }).privateKey.export({ type: 'pkcs8', format: 'pem' }) as string;
  it.each([
    ['that is not JSON', () => tarn({ keyFile: 'hello' }), 'is not JSON'],
    [
      'that is a client profile',
      () => tarn({ keyFile: '{"address":"x","app":"a","environment":"dev","client":"c","clientKey":"k"}' }),
      'looks like a client profile',
    ],
    ['of another network', () => tarn({ keyFile: '{"type":"x","private_key":"y"}' }), 'key file of another network'],
    [
      'whose key does not parse',
      () => tarn({ keyFile: networks.tarn.openAccount('quillfell-hiker').replace(/MII\w{20}/, '') }),
      'does not parse',
    ],
    ['with an RSA key where P-256 signs', () => signed(pem('rsa', { modulusLength: 2048 })), 'of the kind rsa'],
    ['on another curve', () => signed(pem('ec', { namedCurve: 'secp384r1' })), 'secp384r1'],
    ['that is a certificate where a key signs', () => signed(networks.authority.certificate), 'PEM certificate without a private key'],
  ])('%s', async (_what, body, words) => {
    const problem = await refusal(create(body()));
    expect([problem.problem, problem.detail]).toEqual(['credential-refused', expect.stringContaining(words)]);
  });

  it('of another project than the client’s', async () => {
    await create(tarn());
    const problem = await refusal(create(tarn({ name: 'second', keyFile: networks.tarn.openAccount('other-huts') })));
    expect(problem.detail).toContain('is of project other-huts; client `hiker-android` belongs to quillfell-hiker');
  });
});

describe('a gateway mapping is refused', () => {
  it.each([
    ['that does not fit the schema', { ...readMapping('cairn'), request: 'POST' }, 'invalid-input', 'mapping.request'],
    [
      'that names an unknown variable',
      { ...readMapping('cairn'), request: { ...readMapping('cairn').request, headers: { x: '{device.tokn}' } } },
      'mapping-refused',
      '/request/headers/x',
    ],
    [
      'whose sample fails',
      { ...readMapping('cairn'), answers: [{ if: 'status = 200', is: 'accepted' }] },
      'mapping-refused',
      '/sample/answers/1',
    ],
    ['of another kind', readMapping('tarn'), 'mapping-refused', '/for'],
  ])('%s', async (_what, mapping, name, path) => {
    const problem = await refusal(create(cairn({ mapping })));
    expect(problem.problem).toBe(name);
    expect(problem.extras.fields?.map((field) => field.path).join(' ')).toContain(path);
  });

  it('or a credential that would go over an open wire', async () => {
    expect((await refusal(create(cairn({ settings: { address: 'http://push.quillfell.example' } })))).detail).toContain('not https');
  });
});

describe('push by certificate', () => {
  beforeAll(async () => {
    await create(cairn());
  });
  const phone = async (stage: 'trial' | 'live' = 'live') => {
    const token = networks.cairn.register(STORE_ID, stage);
    const id = randomUUID();
    await register(id, app.dev.clientKey, { pushAddress: { token } });
    const got: object[] = [];
    networks.cairn.listen(token, (message) => got.push(message));
    return { id, token, got };
  };

  it('says what is missing, checks without sending, and is ready when a phone has registered', async () => {
    const before = await gateway('cairn');
    expect(before.ready).toBe(false);
    expect(before.readiness.filter(({ ready }) => !ready).map(({ what }) => what)).toEqual(['check', 'device']);
    expect(JSON.stringify(before)).not.toContain('PRIVATE KEY');
    const accepted = networks.cairn.accepted;
    expect(await check('cairn')).toMatchObject({
      ok: true,
      steps: [{ what: 'connection', text: expect.stringContaining('accepted the client certificate') }],
    });
    expect(networks.cairn.accepted).toBe(accepted);
    await phone();
    await eventually(async () => (await gateway('cairn')).ready);
  });

  it('arrives as the mapping says, with its overlay, and the network’s id is kept', async () => {
    const { id, got } = await phone();
    const { body } = await send({
      title: 'Ridge closed',
      body: 'Stay at {data.hut}.',
      badge: '+1',
      data: { hut: 'Fellgate' },
      overlays: { cairn: { volume: 3 } },
      audience: { device: id },
    });
    expect((await settled(body.id)).deliveries).toMatchObject({ total: 1, accepted: 1 });
    expect(got).toEqual([{ show: { head: 'Ridge closed', text: 'Stay at Fellgate.', count: 1, volume: 3 }, more: { hut: 'Fellgate' } }]);
    expect(await deliveriesOf(body.id)).toMatchObject([{ gateway: 'cairn', answer: 200, messageId: `${body.id}.${id}` }]);
    const again = (await send({ title: 'Again', badge: '+1', audience: { device: id } })).body;
    await settled(again.id);
    expect(got[1]).toMatchObject({ show: { count: 2 } });
  });

  it('is tried again after throttling, a fault, a dropped connection; each arrives once', async () => {
    for (const fault of [
      { mode: 'throttle', retryAfterS: 1, count: 1 },
      { mode: 'refuse', status: 503, count: 1 },
      { mode: 'drop', count: 1 },
    ] as const) {
      const { id, got } = await phone();
      networks.cairn.faults.set({ ...fault });
      const { body } = await send({ title: fault.mode, audience: { device: id } });
      expect((await settled(body.id)).deliveries.accepted).toBe(1);
      expect(got).toHaveLength(1);
    }
  });

  it('is a request of its own beside the call that led to it, and in full in the log while its gateway’s level is raised', async () => {
    const { id, token, got } = await phone();
    const change = { source: 'gateway cairn', level: 'debug', minutes: 5 } as const;
    await test.owner.call(operations.log.changeLevels, { params: app.dev.params, body: change });
    const trace = randomUUID().replaceAll('-', '');
    const headers = { traceparent: `00-${trace}-00f067aa0ba902b7-01` };
    const body = { title: 'Ridge closed', audience: { device: id } };
    await test.app('POST', '/notifications', { key: app.dev.serverKey, body, headers });
    const [out] = await outgoing(`trace = '${trace}'`);
    expect(got).toHaveLength(1);
    expect(out).toMatchObject({ method: 'POST', route: 'cairn', status: 200, problem: null, deviceId: id, bodies: null });
    expect(out?.path).toContain(`${networks.cairn.address}/`);
    expect(out?.headers?.request).toMatchObject({ 'content-type': 'application/json' });
    const entry = await eventually(async () => {
      const { items } = await test.owner.call(operations.log.list, { params: app.dev.params, query: { filter: `trace = '${trace}'` } });
      return items[0];
    });
    expect(entry).toMatchObject({
      level: 'debug',
      source: 'gateway cairn',
      text: 'Accepted',
      fields: { exchange: { bodies: { request: expect.stringContaining('Ridge closed') } } },
    });
    expect(JSON.stringify([out, entry])).not.toContain(token);
  });

  it('keeps what a network did not take, without the address that it went to', async () => {
    const { id, token } = await phone();
    networks.cairn.uninstall(token);
    await send({ title: 'Anybody there?', audience: { device: id } });
    const [out] = await outgoing(`deviceId = '${id}'`);
    expect(out).toMatchObject({
      status: 410,
      problem: 'address-gone',
      detail: expect.stringContaining('phone is gone'),
      bodies: { request: expect.stringContaining('Anybody there?'), response: expect.stringContaining('gone') },
    });
    expect(JSON.stringify(out)).not.toContain(token);
  });

  it('retires the device when the network says it is gone', async () => {
    const { id, token } = await phone();
    networks.cairn.uninstall(token);
    const { body } = await send({ title: 'Gone?', audience: { device: id } });
    expect(await settled(body.id)).toMatchObject({
      deliveries: { failed: 1 },
      reasons: [{ reason: expect.stringContaining('410 (phone is gone)') }],
    });
    expect((await test.app('GET', `/devices/${id}`, { key: app.dev.clientKey })).body).toMatchObject({ reachable: false });
  });

  it('tells a phone of the other stage, and a client without a gateway', async () => {
    const trial = randomUUID();
    await register(trial, app.dev.clientKey, { pushAddress: { token: 'abcdef0123', stage: 'trial' } });
    const { body } = await send({ title: 'x', audience: { device: trial } });
    expect(body.reasons).toEqual([
      {
        state: 'skipped',
        reason: 'Its address is for the trial stage; client hiker-ios has a gateway for the other stage only.',
        count: 1,
      },
    ]);
  });

  it('is refused before sending when it is larger than the gateway takes', async () => {
    const { id } = await phone();
    const refused = await send({ title: 'x', body: 'y'.repeat(1900), data: { z: 'z'.repeat(2400) }, audience: { device: id } });
    expect(refused).toMatchObject({
      status: 422,
      body: { type: '/docs/problems/message-too-large', detail: expect.stringContaining('at gateway cairn, which allows 4096') },
    });
  });

  it('keeps every version of its mapping, and uses the latest', async () => {
    const mapping = readMapping('cairn');
    const params = { ...app.dev.params, gateway: 'cairn' };
    await test.owner.call(operations.gateways.putMapping, { params, body: { ...mapping, title: 'Second' } as never });
    const { items } = await test.owner.call(operations.gateways.mappings, { params, query: {} });
    expect(items.map(({ version, document }) => [version, document.title])).toEqual([
      [2, 'Second'],
      [1, mapping.title],
    ]);
    expect((await gateway('cairn')).mapping).toEqual({ version: 2, title: 'Second' });
  });

  it('tells members 30, 7 and 1 day before its certificate ends, each once', async () => {
    const { watchExpiry } = await import('../src/messages/gateways/expiry.js');
    const { parts } = test.service;
    const environment = await parts.directory.environment(app.name, 'dev');
    const row = await parts.gateways.store.find(environment, 'cairn');
    const ends = row?.expiresAt?.getTime() ?? 0;
    const titles: string[] = [];
    for (const days of [40, 30, 29, 7, 6, 1, 0.5, -1]) {
      await watchExpiry({ ...parts, now: () => ends - days * 86_400_000 }, environment);
      titles.push(String((await test.owner.call(operations.notices.list, {})).items.length));
    }
    expect(titles).toEqual(['0', '1', '1', '2', '2', '3', '3', '4']);
    expect((await test.owner.call(operations.notices.list, {})).unread).toBe(4);
    await test.owner.call(operations.notices.read, {});
    expect((await test.owner.call(operations.notices.list, {})).unread).toBe(0);
  });
});

describe('push by token', () => {
  const phone = async () => {
    const token = networks.tarn.register('quillfell-hiker');
    const id = randomUUID();
    await register(id, androidKey, { platform: 'android', pushAddress: { token } });
    const got: object[] = [];
    networks.tarn.listen(token, (letter) => got.push(letter));
    return { id, token, got };
  };

  it('fetches a token by the JWT bearer grant, and a new one when the network lets it expire', async () => {
    expect(await check('tarn')).toMatchObject({ ok: true, steps: [{ what: 'token' }, { what: 'connection' }] });
    const { id, got } = await phone();
    const first = (await send({ title: 'Ridge closed', data: { hut: 'fellgate' }, audience: { device: id } })).body;
    expect((await settled(first.id)).deliveries.accepted).toBe(1);
    networks.tarn.faults.set({ mode: 'expire-tokens', count: 1 });
    const second = (await send({ title: 'Open again', audience: { device: id } })).body;
    expect((await settled(second.id)).deliveries.accepted).toBe(1);
    expect(got).toEqual([{ heading: 'Ridge closed', extra: '{"hut":"fellgate"}' }, { heading: 'Open again' }]);
    expect(await deliveriesOf(second.id)).toMatchObject([{ attempts: 1 }]);
  });

  it('signs its own token with an uploaded key', async () => {
    const { keyFile, keyId, issuer } = networks.tarn.openSigner('quillfell-hiker');
    await test.owner.call(operations.gateways.remove, { params: { ...app.dev.params, gateway: 'tarn' } });
    await create(
      tarn({
        name: 'tarn-signed',
        keyFile,
        mapping: { ...readMapping('tarn-signed'), protocol: 'http/1.1' },
        settings: { address: networks.tarn.address, trust: networks.authority.certificate, keyId, issuer },
      }),
    );
    const { id, got } = await phone();
    const { body } = await send({ title: 'Signed', audience: { device: id } });
    expect((await settled(body.id)).deliveries.accepted).toBe(1);
    expect(got).toEqual([{ heading: 'Signed' }]);
  });

  it('waits while the network refuses its credential, and says so', async () => {
    const { keyFile } = networks.tarn.openSigner('quillfell-hiker');
    await test.owner.call(operations.gateways.patch, { params: { ...app.dev.params, gateway: 'tarn-signed' }, body: { keyFile } });
    const { id } = await phone();
    const { body } = await send({ title: 'x', audience: { device: id } });
    expect(await eventually(async () => (await status(body.id)).reasons[0])).toMatchObject({
      state: 'queued',
      reason: expect.stringContaining('rejects the gateway’s credential'),
    });
    const refused = await gateway('tarn-signed');
    expect([refused.ready, refused.readiness.find(({ what }) => what === 'credential')?.text]).toEqual([
      false,
      expect.stringContaining('has rejected the credential since'),
    ]);
    const told = async () =>
      (await test.owner.call(operations.notices.list, {})).items.filter(({ title }) => title.includes('credential of gateway tarn-signed'));
    await eventually(async () => (await told()).length === 1);
    const second = await send({ title: 'y', audience: { device: id } });
    const waits = await eventually(async () => (await deliveriesOf(second.body.id))[0]?.reason && (await deliveriesOf(second.body.id)));
    expect(waits).toMatchObject([{ state: 'queued', attempts: 0 }]);
    expect(await told()).toHaveLength(1);
    const good = networks.tarn.openSigner('quillfell-hiker');
    await test.owner.call(operations.gateways.patch, {
      params: { ...app.dev.params, gateway: 'tarn-signed' },
      body: { keyFile: good.keyFile, settings: { keyId: good.keyId, issuer: good.issuer } },
    });
    expect((await settled(second.body.id)).deliveries.accepted).toBe(1);
    expect((await settled(body.id)).deliveries.accepted).toBe(1);
    expect((await gateway('tarn-signed')).readiness.map(({ what }) => what)).not.toContain('credential');
  });
});

describe('web push', () => {
  it('rotates its key: who subscribed before is still reached, new ones get the new key', async () => {
    const own = await makeApp(test, 'rotating');
    const kind = {
      name: 'Old phone',
      platform: 'android' as const,
      model: 'Larch 5',
      os: 'Android 16',
      appVersion: '2',
      locale: 'nb-NO',
      timeZone: 'Europe/Oslo',
      person: { name: 'R', email: 'r@hikers.example', password: 'ridge-and-river' },
    };
    await networks.connect({ address: test.address, clientKey: own.dev.clientKey }, [kind, { ...kind, name: 'New phone' }]);
    const [before, after] = networks.handsets();
    await before?.allow();
    const rotated = await test.owner.call(operations.gateways.rotate, { params: { ...own.dev.params, gateway: 'web-push' } });
    expect(rotated.credential.text).toMatch(/^2 keys/);
    await after?.allow();
    expect(before?.state.pushKey).not.toBe(after?.state.pushKey);
    const { body } = await test.app('POST', '/notifications', {
      key: own.dev.serverKey,
      body: { title: 'To both', audience: { everyone: true } },
    });
    await eventually(() => before?.state.received.length === 1 && after?.state.received.length === 1);
    expect(body.deliveries.total).toBe(2);
  });
});

describe('SMS over SMPP', () => {
  const NUMBER = '+12025550142';
  const toPhone = (body: string, changes: object = {}) => send({ way: 'sms', body, audience: { phones: [NUMBER] }, ...changes });
  beforeAll(async () => {
    await create(smpp());
  });

  it('binds, and says why it cannot', async () => {
    expect(await check('heron')).toMatchObject({ ok: true, steps: [{ text: 'Bound as quillfell to HERON.' }, { ok: true }] });
    const wrong = { ...app.dev.params, environment: 'live' };
    await create(smpp({ password: 'nope' }), wrong);
    expect(await test.owner.call(operations.gateways.check, { params: { ...wrong, gateway: 'heron' } })).toMatchObject({
      ok: false,
      steps: [{ text: expect.stringContaining('refuses the password') }, {}],
    });
  });

  it('arrives by its receipt, long ones in segments joined on the phone', async () => {
    const long = 'The ridge between Fellgate and Hollow Col is closed. '.repeat(5).trim();
    const { body } = await toPhone(long);
    const done = await eventually(async () => {
      const now = await status(body.id);
      return now.deliveries.arrived === 1 && now;
    });
    expect(done.state).toBe('done');
    expect(networks.sms.textsOf(NUMBER).at(-1)).toMatchObject({ from: 'Quillfell', text: long });
    expect(await deliveriesOf(body.id)).toMatchObject([{ target: NUMBER, segments: 2, said: 'receipt: DELIVRD', platform: 'sms' }]);
  });

  it('is an outgoing request without its number', async () => {
    await toPhone('one that is recorded');
    const [out] = await outgoing("route = 'heron'");
    expect(out).toMatchObject({ method: 'SMPP', path: `smpp://127.0.0.1:${networks.sms.port}`, status: 200, problem: null });
    expect(JSON.stringify(out)).not.toContain(NUMBER.slice(1));
  });

  it('takes the sender of the country', async () => {
    await settled((await send({ way: 'sms', body: 'x', audience: { phones: ['+44 7700 900123'] } })).body.id);
    expect(networks.sms.textsOf('+447700900123').at(-1)?.from).toBe('+447700900999');
  });

  it('goes on after throttling and a dropped connection, and fails for a phone that cannot be reached', async () => {
    for (const fault of [
      { mode: 'throttle', retryAfterS: 1, count: 1 },
      { mode: 'drop', count: 1 },
    ] as const) {
      networks.sms.faults.set({ ...fault });
      const { body } = await toPhone(`after ${fault.mode}`);
      await eventually(async () => (await status(body.id)).deliveries.arrived === 1, 15_000);
      expect(networks.sms.textsOf(NUMBER).filter(({ text }) => text === `after ${fault.mode}`)).toHaveLength(1);
    }
    networks.sms.unreachable.add('+12025550199');
    const { body } = await send({ way: 'sms', body: 'x', audience: { phones: ['+12025550199'] } });
    expect(await eventually(async () => (await status(body.id)).reasons[0])).toMatchObject({
      state: 'failed',
      reason: 'The phone could not be reached.',
    });
  });

  it('reaches many numbers once each, while receipts come back as fast as they are sent', async () => {
    const phones = Array.from({ length: 6000 }, (_, i) => `+1303555${String(i).padStart(4, '0')}`);
    const { body } = await send({ way: 'sms', body: 'Storm from noon.', audience: { phones } });
    await eventually(async () => (await status(body.id)).deliveries.arrived === phones.length, 30_000);
    expect(phones.filter((number) => networks.sms.textsOf(number).length !== 1)).toEqual([]);
  });

  it('has arrived when all its segments have: one receipt that is lost leaves it accepted', async () => {
    networks.sms.faults.set({ mode: 'lose-receipts', count: 1 });
    const { body } = await toPhone('Three segments of a message about the weather on the ridge. '.repeat(7));
    await settled(body.id);
    await new Promise((resolve) => setTimeout(resolve, 600));
    expect((await status(body.id)).deliveries).toMatchObject({ accepted: 1, arrived: 0 });
    networks.sms.unreachable.add('+12025550198');
    const long = await send({ way: 'sms', body: 'Two segments. '.repeat(15), audience: { phones: ['+12025550198'] } });
    expect(await eventually(async () => (await status(long.body.id)).reasons[0])).toMatchObject({
      reason: 'The phone could not be reached.',
      count: 1,
    });
  });

  it('stays accepted when its receipt is lost', async () => {
    networks.sms.faults.set({ mode: 'lose-receipts', count: 1 });
    const { body } = await toPhone('no receipt');
    expect((await settled(body.id)).deliveries).toMatchObject({ accepted: 1, arrived: 0 });
  });

  it('obeys opt-out and opt-in words, keeps the answer, and sends nothing in between', async () => {
    networks.sms.sendFrom(NUMBER, 'Quillfell', 'Stopp, please');
    const inbox = () => test.owner.call(operations.sms.inbox, { params: app.dev.params, query: {} });
    expect(await eventually(async () => (await inbox()).items[0])).toMatchObject({
      sender: NUMBER,
      text: 'Stopp, please',
      asked: 'out',
      gateway: 'heron',
    });
    const refused = (await toPhone('not wanted')).body;
    expect(refused).toMatchObject({ deliveries: { skipped: 1 }, reasons: [{ reason: 'The number has opted out.' }] });
    const { items } = await test.owner.call(operations.sms.optOuts, { params: app.dev.params, query: {} });
    expect(items).toMatchObject([{ address: NUMBER, state: 'out', because: 'Replied “Stopp, please”.' }]);
    networks.sms.sendFrom(NUMBER, 'Quillfell', 'START');
    await eventually(async () => (await inbox()).items.some(({ asked }) => asked === 'in'));
    expect((await toPhone('wanted again')).body.deliveries.skipped).toBe(0);
  });

  it('previews segments, letters and cost by the price list', async () => {
    await test.owner.call(operations.sms.patchSettings, {
      params: app.dev.params,
      body: { prices: { US: 0.01, GB: 0.05 }, currency: 'EUR' },
    });
    const preview = await test.owner.call(operations.notifications.previewManaged, {
      params: app.dev.params,
      body: { way: 'sms', body: 'a'.repeat(161), audience: { phones: [NUMBER, '+447700900123', '+4791234567'] } },
    });
    expect(preview).toMatchObject({
      total: 3,
      reachable: 3,
      sms: { segments: 2, messages: 3, cost: 0.12, currency: 'EUR', unpriced: ['NO'] },
    });
  });

  it.each([['12'], ['hut phone'], ['+1 202 555']])('to %j is refused by name', async (number) => {
    expect(await send({ way: 'sms', body: 'x', audience: { phones: [NUMBER, number] } })).toMatchObject({
      status: 422,
      body: { fields: [{ path: 'body.audience.phones.1' }] },
    });
  });

  it('verifies a number with a one-time code, not too often, and not by guessing', async () => {
    const wren = await signUp(test, app.dev.clientKey, 'wren');
    const as = { key: app.dev.clientKey, token: wren.token };
    const number = '+12025550177';
    expect((await test.app('POST', '/users/me/phone', { ...as, body: { number } })).status).toBe(202);
    expect((await test.app('POST', '/users/me/phone', { ...as, body: { number } })).status).toBe(429);
    const text = await eventually(() => networks.sms.textsOf(number).at(-1)?.text);
    const code = /^\d{6}/.exec(text)?.[0] as string;
    const wrong = code === '000000' ? '000001' : '000000';
    expect(await test.app('PUT', '/users/me/phone', { ...as, body: { number, code: wrong } })).toMatchObject({
      status: 422,
      body: { detail: expect.stringContaining('4 tries are left') },
    });
    expect(await test.app('PUT', '/users/me/phone', { ...as, body: { number, code } })).toMatchObject({
      status: 200,
      body: { phone: number, phoneVerifiedAt: expect.any(String) },
    });
    expect((await test.app('PUT', '/users/me/phone', { ...as, body: { number, code } })).status).toBe(422);
  });
});

it('SMS over HTTP goes as its mapping says', async () => {
  await test.owner.call(operations.gateways.remove, { params: { ...app.dev.params, gateway: 'heron' } });
  await create({
    kind: 'http',
    name: 'heron-http',
    stage: 'live',
    settings: { address: networks.sms.httpAddress, sender: 'Quillfell' },
    password: networks.sms.httpToken,
    mapping: readMapping('heron'),
  });
  expect(await check('heron-http')).toMatchObject({ ok: true });
  const { body } = await send({ way: 'sms', body: 'Over HTTP', audience: { phones: ['+12025550111'] } });
  expect((await settled(body.id)).deliveries.accepted).toBe(1);
  expect(networks.sms.textsOf('+12025550111').at(-1)).toMatchObject({ text: 'Over HTTP', from: 'Quillfell' });
});

describe('a gateway to a private address that the settings do not name', () => {
  it('tells nothing of which ports are open there', async () => {
    const { createServer } = await import('node:net');
    const open = createServer((socket) => socket.on('error', () => undefined).end('220 something else\r\n'));
    await new Promise<void>((resolve) => open.listen(0, '127.0.0.1', resolve));
    const ports = [(open.address() as { port: number }).port, await freePort()];
    const params = app.live.params;
    const told = await Promise.all(
      ports.map(async (port, i) => {
        const name = `probe-${i}`;
        const settings = { host: '127.0.0.1', port, security: 'none', from: 'huts@quillfell.example' };
        await test.owner.call(operations.gateways.create, { params, body: { kind: 'smtp', name, stage: 'trial', settings } as never });
        const started = Date.now();
        const { steps } = await test.owner.call(operations.gateways.check, { params: { ...params, gateway: name } });
        return { steps, seconds: Math.round((Date.now() - started) / 1000) };
      }),
    );
    expect(told[0]).toEqual(told[1]);
    expect(told[0]?.steps).toMatchObject([{ ok: false, text: expect.stringContaining('ORCHARD_PUSH_ORIGINS') }]);
    open.close();
  });
});

describe('mail', () => {
  beforeAll(async () => {
    await create(smtp());
  });
  it('says why it cannot be used', async () => {
    expect(await check('post')).toMatchObject({ ok: true });
    await test.owner.call(operations.gateways.patch, { params: { ...app.dev.params, gateway: 'post' }, body: { password: 'wrong' } });
    expect(await check('post')).toMatchObject({ ok: false, steps: [{ text: expect.stringContaining('rejects the user') }] });
    await test.owner.call(operations.gateways.patch, {
      params: { ...app.dev.params, gateway: 'post' },
      body: { password: MAIL_ACCOUNT.password },
    });
  });

  it('arrives in text and HTML with its templates filled; an unknown mailbox fails with the server’s words', async () => {
    const kenji = await signUp(test, app.dev.clientKey, 'kenji');
    const { body } = await send({
      way: 'mail',
      title: 'Your booking',
      body: 'Hello {user.email}',
      html: '<p>Hello <b>{user.name|hiker}</b></p>',
      audience: { user: kenji.id },
    });
    expect((await settled(body.id)).deliveries.accepted).toBe(1);
    const [mail] = networks.mail.mailsOf('kenji@hikers.example');
    expect(mail).toMatchObject({ subject: 'Your booking', html: expect.stringMatching(/<b>.+<\/b>/) });
    expect(mail?.text.trim()).toBe('Hello kenji@hikers.example');
    const gone = (await send({ way: 'mail', title: 'x', audience: { addresses: ['nobody@hikers.example'] } })).body;
    expect(await settled(gone.id)).toMatchObject({ deliveries: { failed: 1 }, reasons: [{ reason: expect.stringContaining('5.1.1') }] });
  });
});

it('a mail that comes back fails after all, in the words of the server that tried', async () => {
  const params = { ...app.dev.params, gateway: 'post' };
  await test.owner.call(operations.gateways.patch, { params, body: { settings: { bouncesTo: 'huts@quillfell.example' } } });
  const { body } = await send({ way: 'mail', title: 'Your booking', body: 'x', audience: { addresses: ['moved@hikers.example'] } });
  const failed = await eventually(async () => {
    const now = await status(body.id);
    return now.deliveries.failed === 1 && now;
  });
  expect(failed.reasons[0].reason).toBe('The mail was returned (5.1.6): 551 5.1.6 The mailbox has moved and left no address.');
});

it('refuses what a foreign authority signed', async () => {
  const stranger = makeAuthority('A stranger');
  const file = clientCertificate(stranger, { packageIdentifier: STORE_ID, stage: 'live', password: '' }).toString('base64');
  await create(cairn({ name: 'foreign', certificate: file, password: '' }) as Input);
  await test.owner.call(operations.gateways.remove, { params: { ...app.dev.params, gateway: 'cairn' } });
  const token = networks.cairn.register(STORE_ID, 'live');
  const id = randomUUID();
  await register(id, app.dev.clientKey, { pushAddress: { token } });
  const { body } = await send({ title: 'x', audience: { device: id } });
  expect(await eventually(async () => (await status(body.id)).reasons[0])).toMatchObject({
    reason: expect.stringContaining('no certificate of this network'),
  });
});
