/** Log entries of apps and of the service, levels that fall back by themselves, and errors by cause. */
import { type BodyInputOf, operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

type Entry = BodyInputOf<typeof operations.log.add>['entries'][number];
let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());

const bring = (entries: Entry[], options: { token?: string; headers?: Record<string, string> } = {}) =>
  test.app('POST', '/log', { key: app.live.clientKey, body: { entries }, ...options });
const list = async (query: object = {}) => (await test.owner.call(operations.log.list, { params: app.live.params, query })).items;
const errors = async () => (await test.owner.call(operations.log.errors, { params: app.live.params, query: {} })).items;

describe('entries of an app', () => {
  it('are there when the call is answered, with their source, device, version and trace', async () => {
    const trace = '4bf92f3577b34da6a3ce929d0e0e4736';
    const answer = await bring([{ text: 'The map is stored', fields: { tiles: 412 }, trace }], {
      headers: { 'orchard-device': 'device-of-runa', 'user-agent': 'QuillfellHiker/2.4.1 (iOS 19.2)' },
    });
    expect(answer.status).toBe(202);
    expect(answer.body).toEqual({ kept: 1, below: 0 });
    expect((await list())[0]).toMatchObject({
      level: 'info',
      source: 'app hiker-ios',
      text: 'The map is stored',
      fields: { tiles: 412 },
      trace,
      deviceId: 'device-of-runa',
      version: '2.4.1',
    });
  });

  it('below the level are counted and not kept', async () => {
    expect((await bring([{ text: 'loud' }, { text: 'quiet', level: 'debug' }])).body).toEqual({ kept: 1, below: 1 });
    expect((await list({ filter: "text = 'quiet'" })).length).toBe(0);
  });

  it('lose secrets, control characters and what is too long', async () => {
    await bring([
      { text: `token ${app.live.serverKey} \u001b[31mred`, fields: { password: 'a-secret-nobody-saw', note: 'fine' } },
      { text: 'x'.repeat(90_000) },
    ]);
    const [long, masked] = await list({ limit: 2 });
    expect(long?.text).toHaveLength(4_000);
    expect(masked?.text).toBe('token skey-… ·[31mred');
    expect(masked?.fields).toEqual({ password: '…', note: 'fine' });
  });

  it.each<[string, unknown, string]>([
    ['of an unknown level', { entries: [{ text: 'a', level: 'loud' }] }, 'body.entries.0.level'],
    ['more than a hundred', { entries: Array.from({ length: 101 }, () => ({ text: 'a' })) }, 'body.entries'],
    ['with a trace that is none', { entries: [{ text: 'a', trace: 'xyz' }] }, 'body.entries.0.trace'],
  ])('%s are refused as a whole', async (_, body, path) => {
    const before = (await list({ limit: 1000 })).length;
    const answer = await test.app('POST', '/log', { key: app.live.clientKey, body });
    expect(answer.status).toBe(422);
    expect(answer.body.fields[0].path).toBe(path);
    expect(await list({ limit: 1000 })).toHaveLength(before);
  });

  it('of a megabyte are refused, and a clock that is years off does not hide them', async () => {
    expect((await bring([{ text: 'x'.repeat(1_100_000) }])).status).toBe(413);
    await bring([{ text: 'from another age', at: '1999-01-01T00:00:00.000Z' }]);
    const [found] = await list({ filter: "text = 'from another age'" });
    expect(Date.parse(found?.at ?? '')).toBeGreaterThan(test.service.parts.now() - 60_000);
  });
});

describe('a list of entries', () => {
  it('is searched by free text as it is', async () => {
    await bring([{ text: "100% of 'huts'_" }]);
    expect((await list({ text: "100% OF 'huts'_" })).length).toBe(1);
    for (const text of ['100_ of', "1' OR '1'='1", '.*huts']) expect(await list({ text }), text).toEqual([]);
  });

  it('shows what came before and after one', async () => {
    await bring(['one', 'two', 'three'].map((text) => ({ text })));
    const [two] = await list({ filter: "text = 'two'" });
    const around = (await list({ around: two?.id })).map(({ text }) => text);
    expect(around.slice(0, 3)).toEqual(['three', 'two', 'one']);
  });

  it('can have the requests of the same time in it', async () => {
    const trace = 'cccc2f3577b34da6a3ce929d0e0e4736';
    const headers = { traceparent: `00-${trace}-00f067aa0ba902b7-01` };
    await test.app('GET', '/data/huts', { key: app.live.serverKey, headers });
    await bring([{ text: 'No huts came', level: 'warning', trace }]);
    const filter = `trace = '${trace}'`;
    const mixed = await eventually(async () => {
      const found = await list({ filter, requests: 'true' });
      return found.length === 2 && found;
    });
    expect(mixed.map(({ source, level }) => [source, level])).toEqual([
      ['app hiker-ios', 'warning'],
      ['request', 'warning'],
    ]);
    expect(mixed[1]?.text).toBe('GET /app/v1/data/huts 404 collection-unknown');
    const first = await test.owner.call(operations.log.list, { params: app.live.params, query: { filter, requests: 'true', limit: 1 } });
    const query = { filter, requests: 'true' as const, limit: 1, cursor: first.next as string };
    expect((await test.owner.call(operations.log.list, { params: app.live.params, query })).items).toMatchObject([{ source: 'request' }]);
  });

  it('leaves as NDJSON', async () => {
    const reply = await test.owner.open(operations.log.export, { params: app.live.params, query: { filter: "text IN ('one', 'two')" } });
    const lines = (await reply.text())
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line));
    expect(lines.map(({ text }) => text)).toEqual(['two', 'one']);
  });
});

describe('the level of a source', () => {
  const change = (body: object) => test.owner.call(operations.log.changeLevels, { params: app.live.params, body });

  it('is raised for some minutes, and the others stay', async () => {
    const { raised } = await change({ source: 'app hiker-ios', level: 'debug', minutes: 5 });
    expect(Date.parse(raised[0]?.until ?? '') - test.service.parts.now()).toBeGreaterThan(4 * 60_000);
    expect((await bring([{ text: 'fine detail', level: 'debug' }])).body).toEqual({ kept: 1, below: 0 });
    const web = await test.owner.call(operations.clients.create, { params: app.live.params, body: { name: 'hiker-web', kind: 'web' } });
    const entries = [{ text: 'x', level: 'debug' }];
    const other = await test.app('POST', '/log', { key: web.keys[0]?.key as string, body: { entries } });
    expect(other.body).toEqual({ kept: 0, below: 1 });
  });

  it('is set for good', async () => {
    await change({ source: 'app hiker-ios', level: 'error' });
    expect((await bring([{ text: 'not now' }])).body).toEqual({ kept: 0, below: 1 });
    expect((await change({ source: 'app hiker-ios', level: 'info' })).levels).toMatchObject({ 'app hiker-ios': 'info', '*': 'info' });
  });
});

describe('an unhandled error', () => {
  const failure = (version: string, line = 41) => ({
    text: '',
    level: 'error' as const,
    error: {
      name: 'TypeError',
      message: 'Cannot read nights',
      stack: `TypeError: Cannot read nights\n    at openBooking (https://hiker.quillfell.example/booking.js:${line}:3)`,
      version,
    },
  });

  it('is gathered by its cause, with count, people and versions', async () => {
    const runa = await signUp(test, app.live.clientKey, 'runa');
    await bring([failure('2.4.0'), failure('2.4.0', 44)], { token: runa.token });
    await bring([failure('2.4.1')], { headers: { 'orchard-device': 'device-of-per' } });
    const [group, ...others] = await errors();
    expect(others).toEqual([]);
    expect(group).toMatchObject({ name: 'TypeError', count: 3, people: 2, versions: ['2.4.0', '2.4.1'], state: 'open' });
    expect(group?.place).toBe('openBooking (/booking.js:41)');
    const entries = await list({ filter: `error = '${group?.id}'` });
    expect(entries).toHaveLength(3);
    expect(entries[0]?.text).toBe('TypeError: Cannot read nights');
  });

  it('that is settled in a version comes back with that or a later one, and not with an earlier', async () => {
    const [group] = await errors();
    const params = { ...app.live.params, error: group?.id as string };
    const settle = () => test.owner.call(operations.log.settle, { params, body: { version: '2.5.0' } });
    expect(await settle()).toMatchObject({ state: 'settled', settledIn: '2.5.0' });
    await bring([failure('2.4.1')]);
    expect((await errors())[0]).toMatchObject({ state: 'settled', count: 4 });
    await bring([failure('2.10.0')]);
    expect((await errors())[0]).toMatchObject({ state: 'come back', count: 5 });
    expect(await settle()).toMatchObject({ state: 'settled' });
  });
});

it('a stack is led back to the team’s own code by the source map of its version', async () => {
  const { params } = app.live;
  // One segment: the first column of the first line comes from line 41 of booking.ts.
  const map = { version: 3, sources: ['src/booking.ts'], names: ['askArrival'], mappings: 'AAwCIA' };
  const bringMap = (of: object) =>
    test.owner.call(operations.log.putSourceMap, { params, body: { version: '3.0.0', file: 'app.js', map: of as never } });
  await expect(bringMap({ version: 2, sources: [], mappings: '' })).rejects.toMatchObject({
    problem: 'invalid-input',
    detail: expect.stringContaining('version is 2'),
  });
  expect(await bringMap(map)).toMatchObject({ file: 'app.js', sources: 1 });
  const error = {
    name: 'RangeError',
    message: 'x',
    stack: 'RangeError: x\n    at a (https://hiker.quillfell.example/app.js:1:1)',
    version: '3.0.0',
  };
  await bring([{ text: '', level: 'error', error }]);
  const found = (await errors()).find(({ name }) => name === 'RangeError');
  expect(found?.place).toBe('askArrival (src/booking.ts:41)');
  const [entry] = await list({ filter: `error = '${found?.id}'` });
  expect(entry?.fields?.stack).toContain('at askArrival (src/booking.ts:41:5)');
  expect((await test.owner.call(operations.log.sourceMaps, { params })).items).toMatchObject([{ version: '3.0.0', file: 'app.js' }]);
});

it('the service writes what its gateways refuse, and no more than a reader can take', async () => {
  const environment = await test.service.parts.directory.environment(app.name, 'live');
  for (let i = 0; i < 1_000; i++)
    test.service.parts.ports.logEntry(environment, { level: 'warning', source: 'gateway cairn', text: `The network answered 503 (${i})` });
  const found = await eventually(async () => {
    const items = await list({ filter: "source = 'gateway cairn'", limit: 1000 });
    return items.length > 0 && items;
  });
  expect(found).toHaveLength(600);
  expect(found.some(({ text }) => text.includes('More of this source is left out'))).toBe(true);
});
