import { setTimeout as sleep } from 'node:timers/promises';
import { operations } from '@orchard/contract';
import pino from 'pino';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { type RunningService, startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { type AppOptions, callApp, eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let one: TestService;
let two: RunningService;
let app: TestApp;
const atTwo = (method: string, path: string, options?: AppOptions) => callApp(two.address, method, path, options);

beforeAll(async () => {
  one = await startTestService(inject('databaseUrl'));
  two = await startService(
    { ...one.config, dataDirectory: scratchDirectory('second'), secretKey: one.service.parts.secretKey },
    pino({ level: 'silent' }),
  );
  app = await makeApp(one, 'quillfell-hiker');
});
afterAll(async () => {
  await two.stop();
  await one.stop();
});

describe('two instances on one database', () => {
  it('know the same people, tokens, collections and fields', async () => {
    const key = app.dev.clientKey;
    const runa = await signUp(one, key, 'runa');
    expect((await atTwo('GET', '/users/me', { key, token: runa.token })).body.email).toBe(runa.email);
    const made = await one.app('POST', '/data/huts', { key, token: runa.token, body: { name: 'Skarn' } });
    expect((await atTwo('GET', `/data/huts/${made.body.id}`, { key, token: runa.token })).body.name).toBe('Skarn');
    await atTwo('PATCH', `/data/huts/${made.body.id}`, { key, token: runa.token, body: { bunks: 12 } });
    expect((await one.app('POST', '/data/huts', { key, token: runa.token, body: { name: 'Northend', bunks: 'many' } })).status).toBe(422);
    expect(
      (
        await eventually(async () => {
          const { body } = await one.app('GET', `/data/huts/${made.body.id}`, { key, token: runa.token });
          return body.bunks === 12 && body;
        })
      ).version,
    ).toBe(2);
    const renewed = await atTwo('POST', '/sessions', { key, body: { refreshToken: runa.refreshToken } });
    expect(renewed.status).toBe(201);
    const again = await one.app('POST', '/sessions', { key, body: { refreshToken: runa.refreshToken } });
    expect(again.body.refreshToken, 'the same at the other instance, for a minute').toBe(renewed.body.refreshToken);
  });

  it('hear of a changed rule or a revoked key within seconds', async () => {
    const key = app.dev.clientKey;
    const hana = await signUp(one, key, 'hana');
    await one.app('POST', '/data/board', { key, token: hana.token, body: { text: 'a' } });
    expect((await atTwo('GET', '/data/board', { key })).status).toBe(403);
    await one.owner.call(operations.collections.patch, {
      params: { ...app.dev.params, collection: 'board' },
      body: { rules: { read: 'TRUE' } },
    });
    await eventually(async () => (await atTwo('GET', '/data/board', { key })).status === 200);
    const extra = await one.owner.call(operations.clients.createKey, {
      params: { ...app.dev.params, client: 'hiker-ios' },
      body: { name: 'extra' },
    });
    expect((await atTwo('GET', '/push-key', { key: extra.key as string })).status).toBe(200);
    await one.owner.call(operations.clients.revokeKey, { params: { ...app.dev.params, client: 'hiker-ios', key: extra.id } });
    await eventually(async () => (await atTwo('GET', '/push-key', { key: extra.key as string })).status === 401);
  });

  it('share the sending of notifications without doubling one', async () => {
    const kind = (name: string) => ({
      name,
      platform: 'ios' as const,
      model: 'Tern',
      os: 'iOS 19',
      appVersion: '2.4.1',
      locale: 'en-GB',
      timeZone: 'Europe/London',
      person: { name, email: `${name}@hikers.example`, password: 'ridge-and-river' },
    });
    await one.simulators.connect({ address: one.address, clientKey: app.dev.clientKey }, ['a', 'b', 'c'].map(kind));
    for (const phone of one.simulators.handsets()) await phone.allow();
    const send = (call: typeof atTwo, i: number) =>
      call('POST', '/notifications', { key: app.dev.serverKey, body: { title: `No. ${i}`, audience: { everyone: true } } });
    const sent = await Promise.all(Array.from({ length: 6 }, (_, i) => send(i % 2 ? one.app : atTwo, i)));
    for (const { body } of sent) {
      const done = await eventually(async () => {
        const { body: read } = await atTwo('GET', `/notifications/${body.id}`, { key: app.dev.serverKey });
        return read.deliveries.queued === 0 && read;
      });
      expect([done.deliveries.total, done.deliveries.accepted + done.deliveries.arrived]).toEqual([3, 3]);
    }
    for (const phone of one.simulators.handsets())
      expect(phone.state.received.map(({ title }) => title).sort()).toEqual(['No. 0', 'No. 1', 'No. 2', 'No. 3', 'No. 4', 'No. 5']);
  });

  it('count calls together', async () => {
    const before = (await one.owner.call(operations.telemetry.usage, { params: app.live.params })).total.calls;
    await Promise.all(Array.from({ length: 10 }, (_, i) => (i % 2 ? one.app : atTwo)('GET', '/push-key', { key: app.live.clientKey })));
    const after = await eventually(async () => {
      const { total } = await one.owner.call(operations.telemetry.usage, { params: app.live.params });
      return total.calls >= before + 10 && total.calls;
    });
    expect(after).toBe(before + 10);
  });
});

describe('a limit of calls', () => {
  it('holds over all instances, though each counts for itself', async () => {
    const settings = { ...one.config, secretKey: one.service.parts.secretKey, rates: { ...one.config.rates, perKey: 60 } };
    const few = await Promise.all(
      ['few-a', 'few-b'].map((name) => startService({ ...settings, dataDirectory: scratchDirectory(name) }, pino({ level: 'silent' }))),
    );
    const key = app.live.clientKey;
    const calls = async (address: string, count: number) => {
      const statuses: number[] = [];
      for (let i = 0; i < count; i++) statuses.push((await callApp(address, 'GET', '/connection', { key })).status);
      return statuses.filter((status) => status === 429).length;
    };
    const [a, b] = few.map(({ address }) => address) as [string, string];
    await eventually(async () => (await one.owner.call(operations.instances.list, {})).items.length >= 4);
    // Each has heard of the other by then.
    await sleep(2_500);
    expect(await calls(a, 40)).toBe(0);
    await sleep(1_500);
    expect(await calls(b, 40)).toBe(20);
    await Promise.all(few.map((instance) => instance.stop()));
  });
});

describe('an instance that stops', () => {
  it('says so before it refuses calls, and is not in the list any more', async () => {
    const third = await startService(
      { ...one.config, secretKey: one.service.parts.secretKey, dataDirectory: scratchDirectory('third'), drainMs: 1_500 },
      pino({ level: 'silent' }),
    );
    const listed = async () => (await one.owner.call(operations.instances.list, {})).items;
    expect(await listed()).toContainEqual(expect.objectContaining({ port: Number(new URL(third.address).port), state: 'serving' }));
    expect((await fetch(`${third.address}/readyz`)).status).toBe(200);
    const stopped = third.stop();
    await eventually(async () => (await fetch(`${third.address}/readyz`)).status === 503);
    const answer = await callApp(third.address, 'GET', '/connection', { key: app.dev.clientKey });
    expect([answer.status, answer.headers.get('connection')]).toEqual([200, 'close']);
    await stopped;
    await expect(fetch(`${third.address}/readyz`)).rejects.toThrow();
    expect((await listed()).map(({ port }) => port)).not.toContain(Number(new URL(third.address).port));
  });
});
