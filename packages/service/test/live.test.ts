import { type LiveEvent, operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { connect } from 'node:net';
import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';
import { eventually, listenTo, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: Awaited<ReturnType<typeof signUp>>;
let kenji: Awaited<ReturnType<typeof signUp>>;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  kenji = await signUp(test, app.dev.clientKey, 'kenji');
  const huts = {
    name: 'huts',
    fields: [
      { name: 'name', type: 'text' as const },
      { name: 'region', type: 'text' as const },
      { name: 'bunks', type: 'integer' as const },
      { name: 'state', type: 'text' as const, hidden: true },
    ],
    rules: { read: 'TRUE' },
  };
  await test.owner.call(operations.collections.create, { params: app.dev.params, body: huts });
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: {
      name: 'diaries',
      fields: [
        { name: 'text', type: 'text' },
        { name: 'shared', type: 'boolean' },
      ],
      rules: { read: "ownerId = me('id') OR shared = TRUE" },
    },
  });
});
afterAll(() => test.stop());

const trusted = () => ({ key: app.dev.serverKey });
const as = (user?: { token: string }) => ({ key: app.dev.clientKey, ...(user ? { token: user.token } : {}) });
const write = (method: string, path: string, body?: object, who: object = trusted()) =>
  test.app(method, `/data/${path}`, { ...who, ...(body ? { body } : {}) } as never);

const listen = (path: string, who: { key: string; token?: string }, lastEvent?: string) => listenTo(test.address, path, who, lastEvent);
const query = (filter: string) => `?${new URLSearchParams({ filter })}`;
const named = (events: LiveEvent[]) =>
  events
    .filter(({ event }) => event !== 'ready')
    .map(
      ({ event, data }) => `${event} ${(data as { record?: { name: string }; id?: string }).record?.name ?? (data as { id: string }).id}`,
    );

describe('a live filter', () => {
  it('tells what enters, changes in and leaves it, to each only what they may read', async () => {
    const north = await listen(`huts${query("region = 'north' AND bunks > 2")}`, as(runa));
    await north.next('ready');
    await write('POST', 'huts', { id: 'a', name: 'A', region: 'north', bunks: 1, state: 'closed' });
    await write('PATCH', 'huts/a', { bunks: 3 });
    await write('PATCH', 'huts/a', { name: 'A2' });
    await write('PATCH', 'huts/a', { region: 'south' });
    await write('PUT', 'huts/b', { name: 'B', region: 'north', bunks: 9 });
    await write('DELETE', 'huts/b');
    await eventually(() => north.of('left').length === 2);
    expect(named(north.events)).toEqual(['entered A', 'changed A2', 'left a', 'entered B', 'left b']);
    expect(north.of('left').map(({ data }) => data)).toEqual([
      { id: 'a', version: 4, deleted: false },
      { id: 'b', version: 2, deleted: true },
    ]);
    expect(((north.of('entered')[0] as LiveEvent).data as { record: object }).record).not.toHaveProperty('state');
    north.stop();

    const [own, other] = [await listen('diaries', as(runa)), await listen('diaries', as(kenji))];
    await Promise.all([own.next('ready'), other.next('ready')]);
    const { body } = await write('POST', 'diaries', { text: 'mine' }, as(runa));
    await write('PATCH', `diaries/${body.id}`, { shared: true }, as(runa));
    await write('PATCH', `diaries/${body.id}`, { shared: false }, as(runa));
    await eventually(() => other.of('left').length === 1 && own.of('changed').length === 2);
    expect([own, other].map(({ events }) => events.map(({ event }) => event).filter((event) => event !== 'message'))).toEqual([
      ['ready', 'entered', 'changed', 'changed'],
      ['ready', 'entered', 'left'],
    ]);
    own.stop();
    other.stop();
  });

  it.each([
    [`huts${query('regoin = 3')}`, 422, 'did you mean `region`'],
    [`huts${query("state = 'x'")}`, 422, 'no field `state`'],
    ['nowhere', 404, 'no collection `nowhere`'],
  ])('that is %s is refused with %i', async (path, status, words) => {
    const refused = await test.app('GET', `/live/${path}`, as(runa));
    expect([refused.status, refused.body.detail]).toEqual([status, expect.stringContaining(words)]);
  });

  it('is resumed after a number with no gap and no double, whatever commits in which order', async () => {
    const first = await listen('huts', trusted());
    await first.next('ready');
    await write('POST', 'huts', { id: 'c', name: 'C' });
    const seen = (await first.next('entered')).id;
    first.stop();
    await first.ended;
    // Transactions that commit later than they began, among many that do not.
    const { database, directory } = test.service.parts;
    const environment = await directory.environment('quillfell-hiker', 'dev');
    const slow = database.transaction(async (on) => {
      await on.run(
        `INSERT INTO \`${environment.db.name}\`.huts (id, createdAt, updatedAt, version, name) VALUES ('slow', UTC_TIMESTAMP(3), UTC_TIMESTAMP(3), 1, 'slow')`,
      );
      await new Promise((resolve) => setTimeout(resolve, 600));
    });
    await Promise.all(Array.from({ length: 60 }, (_, i) => write('POST', 'huts', { id: `many-${i}`, name: `many ${i}` })));
    const middle = await listen('huts', trusted(), seen);
    await eventually(() => middle.of('entered').length >= 60);
    await slow;
    await eventually(() => middle.of('entered').length === 61);
    middle.stop();
    const again = await listen('huts', trusted(), seen);
    await eventually(() => again.of('entered').length === 61);
    const ids = again.of('entered').map(({ id }) => Number(id));
    expect(new Set(again.of('entered').map(({ data }) => (data as { record: { id: string } }).record.id)).size).toBe(61);
    expect(ids).toEqual([...ids].sort((a, b) => a - b));
    again.stop();
    expect((await listen('huts', trusted(), '999999999')).events.map(({ event }) => event)).toEqual(
      expect.not.arrayContaining(['entered']),
    );
  });
});

describe('a live record', () => {
  it('is absent before it exists, and then created, changed and deleted', async () => {
    const weather = await listen('huts/ridge-weather', as());
    expect((await weather.next('absent')).data).toEqual({ id: 'ridge-weather' });
    await write('PUT', 'huts/ridge-weather', { name: 'calm' });
    await write('PATCH', 'huts/ridge-weather', { name: 'storm' });
    await write('DELETE', 'huts/ridge-weather');
    await write('PUT', 'huts/ridge-weather', { name: 'calm again' });
    await eventually(() => weather.of('created').length === 2);
    expect(named(weather.events)).toEqual([
      'absent ridge-weather',
      'created calm',
      'changed storm',
      'deleted ridge-weather',
      'created calm again',
    ]);
    weather.stop();
    const later = await listen('huts/ridge-weather', as());
    expect((await later.next('current')).data).toMatchObject({ record: { name: 'calm again', version: 4 } });
    later.stop();
  });
});

it('waits for a record of a collection that a first write may still make, but not in a closed environment', async () => {
  const early = await listen('fresh_snow/today', trusted());
  await early.next('absent');
  await write('PUT', 'fresh_snow/today', { depthCm: 12 });
  expect((await early.next('created')).data).toMatchObject({ record: { depthCm: 12 } });
  early.stop();
  expect(await test.app('GET', '/live/fresh_snow/today', { key: app.live.serverKey })).toMatchObject({
    status: 404,
    body: { type: '/docs/problems/collection-unknown' },
  });
});

it('takes a text of nearly 1 MB, and refuses a longer one by its size', async () => {
  const body = (letters: number) => ({ id: `long-${letters}`, text: 'x'.repeat(letters) });
  expect((await write('POST', 'diaries', body(990_000))).status).toBe(201);
  expect(await write('POST', 'diaries', body(1_000_001))).toMatchObject({
    status: 413,
    body: { detail: 'The body is over 1 MB. Send less in one call.' },
  });
});

it('cuts off a reader that takes nothing, without holding what it does not take', async () => {
  const url = new URL(test.address);
  const socket = connect(Number(url.port), url.hostname);
  socket.write(['GET /app/v1/live/diaries HTTP/1.1', `Host: ${url.host}`, `Orchard-Key: ${app.dev.serverKey}`, '', ''].join('\r\n'));
  await new Promise((resolve) => socket.once('data', resolve));
  socket.pause();
  const text = 'storm '.repeat(50_000);
  await write('POST', 'diaries', { id: 'big', text });
  setFlagsFromString('--expose-gc');
  const collect = runInNewContext('gc') as () => void;
  const held = async () => {
    // What the first collection lets go is given back only after it.
    for (let i = 0; i < 3; i++) {
      collect();
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
    const { heapUsed, external } = process.memoryUsage();
    return heapUsed + external;
  };
  const grow = async () => {
    for (let i = 0; i < 100; i++) await write('PATCH', 'diaries/big', { text: `${i}${text}` });
  };
  await grow();
  const before = await held();
  await grow();
  // 30 MB more were written; a reader with an unbounded queue would hold all of it.
  expect((await held()) - before).toBeLessThan(15_000_000);
  const own = await listen('diaries', trusted());
  await own.next('ready');
  await write('PATCH', 'diaries/big', { text: 'over' });
  expect(((await own.next('changed')).data as { record: { text: string } }).record.text).toBe('over');
  own.stop();
  socket.destroy();
});

describe('writes that are sent again', () => {
  it('with the same Idempotency-Key are done once, and answered the same', async () => {
    const send = (body: object, key = 'booking-4711') =>
      test.app('POST', '/data/diaries', { ...as(runa), body, headers: { 'idempotency-key': key } } as never);
    const answers = await Promise.all([send({ text: 'once' }), send({ text: 'once' }), send({ text: 'once' })]);
    expect(new Set(answers.map(({ status, body }) => `${status} ${body.id}`)).size).toBe(1);
    expect(answers[0]?.headers.get('location')).toBe(answers[2]?.headers.get('location'));
    expect(
      (await test.app('GET', `/data/diaries?${new URLSearchParams({ filter: "text = 'once'", count: 'true' })}`, as(runa))).body.count,
    ).toBe(1);
    expect(await send({ text: 'another' })).toMatchObject({ status: 422, body: { type: '/docs/problems/key-reused' } });
    expect(
      (
        await test.app('POST', '/data/diaries', {
          ...as(kenji),
          body: { text: 'theirs' },
          headers: { 'idempotency-key': 'booking-4711' },
        } as never)
      ).status,
    ).toBe(201);
    expect((await send({ text: 'x' }, 'short')).status).toBe(422);
    // What was refused stores nothing, and may be corrected under the same key.
    expect((await send({ text: 5 }, 'corrected-later')).status).toBe(422);
    expect((await send({ text: 'five' }, 'corrected-later')).status).toBe(201);
    // In an open environment, a first write that has to make its field as well.
    expect((await send({ text: 'six', mood: 'calm' }, 'with-a-new-field')).body.mood).toBe('calm');
  });
});

describe('a batch', () => {
  const batch = (body: object, who: object = trusted()) => test.app('POST', '/data/huts/batch', { ...who, body } as never);
  const read = async (id: string) => (await test.app('GET', `/data/huts/${id}`, trusted())).status;

  it('stores everything, or nothing and says which action was wrong', async () => {
    const actions = [
      { action: 'create', record: { id: 'x1', name: 'X1' } },
      { action: 'create', record: { id: 'x2', name: 'X2', bunks: 4 } },
      { action: 'patch', id: 'x1', record: { bunks: 2 }, ifVersion: 1 },
      { action: 'delete', id: 'x2' },
    ];
    expect((await batch({ actions })).body.results).toEqual([
      { status: 201, id: 'x1', version: 1 },
      { status: 201, id: 'x2', version: 1 },
      { status: 200, id: 'x1', version: 2 },
      { status: 204, id: 'x2' },
    ]);
    const wrong = await batch({
      actions: [
        { action: 'create', record: { id: 'x3' } },
        { action: 'create', record: { id: 'x4', bunks: 'two' } },
      ],
    });
    expect(wrong).toMatchObject({
      status: 422,
      body: { detail: expect.stringContaining('Action 2 of 2 (create)'), fields: [{ path: 'body.actions.1.record.bunks' }] },
    });
    const twin = await batch({
      actions: [...Array(9).keys()].map((i) => ({ action: 'create', record: { id: i === 6 ? 'x1' : `y${i}` } })),
    });
    expect(twin).toMatchObject({ status: 409, body: { detail: expect.stringContaining('Action 7 of 9') } });
    expect([await read('x3'), await read('y0')]).toEqual([404, 404]);
    expect((await batch({ actions: [] })).status).toBe(422);
    expect((await batch({ actions: Array(1001).fill(actions[3]) })).body.fields[0].problem).toContain('at most 1,000 actions');
  });

  it('does each on its own when asked, and tells each apart', async () => {
    const { body } = await batch({
      together: false,
      actions: [
        { action: 'create', record: { id: 'z1' } },
        { action: 'create', record: { id: 'x1' } },
        { action: 'create', record: { id: 'z2', bunks: 1.5 } },
        { action: 'patch', id: 'x1', record: {}, ifVersion: 9 },
        { action: 'delete', id: 'gone' },
        { action: 'put', id: 'z3', record: { name: 'Z3' } },
      ],
    });
    // 1.5 widens the field, as a single write would.
    expect(body.results.map(({ status }: { status: number }) => status)).toEqual([201, 409, 201, 412, 404, 201]);
    expect(body.results[3].problem.currentVersion).toBe(2);
  });

  it('asks the rules for every action', async () => {
    const { body } = await batch(
      {
        together: false,
        actions: [
          { action: 'delete', id: 'z1' },
          { action: 'create', record: { name: 'mine' } },
        ],
      },
      as(runa),
    );
    expect(body.results.map(({ status }: { status: number }) => status)).toEqual([403, 201]);
  });

  it('of 1,000 creations is one call', async () => {
    const { body } = await batch({
      actions: Array.from({ length: 1000 }, (_, i) => ({ action: 'create', record: { name: `Hut ${i}`, region: 'east', bunks: i } })),
    });
    expect(body.results).toHaveLength(1000);
    expect((await test.app('GET', `/data/huts?limit=1&count=true&filter=region = 'east'`, trusted())).body.count).toBe(1000);
  });
});

it('shows who changed what, and brings an earlier version back', async () => {
  const { body } = await write('POST', 'diaries', { text: 'first' }, as(runa));
  await write('PATCH', `diaries/${body.id}`, { text: 'second' });
  const params = { ...app.dev.params, collection: 'diaries', id: body.id };
  await test.owner.call(operations.managedRecords.patch, { params, body: { text: 'third' } });
  const { items } = await test.owner.call(operations.managedRecords.history, { params });
  expect(items.map(({ version, action, by }) => ({ version, action, by }))).toMatchObject([
    { version: 3, action: 'update', by: { kind: 'member', name: 'Mira Quill' } },
    { version: 2, action: 'update', by: { kind: 'server', id: 'office/test' } },
    { version: 1, action: 'create', by: { kind: 'user', id: runa.id } },
  ]);
  expect(items[1]?.changes).toEqual([{ field: 'text', from: 'first', to: 'second' }]);
  expect(await test.owner.call(operations.managedRecords.restore, { params, body: { entry: items[2]?.entry as number } })).toMatchObject({
    text: 'first',
    version: 4,
    ownerId: runa.id,
  });
  await write('DELETE', `diaries/${body.id}`);
  const [deleted] = (await test.app('GET', `/history/diaries/${body.id}`, trusted())).body.items;
  expect(deleted).toMatchObject({ action: 'delete', version: 5, by: { kind: 'server', id: 'office/test' } });
  expect((await test.app('POST', `/history/diaries/${body.id}`, { ...trusted(), body: { entry: deleted.entry } })).body).toMatchObject({
    text: 'first',
    version: 6,
    ownerId: runa.id,
  });
  expect((await test.app('GET', `/history/diaries/${body.id}`, as(runa))).body.type).toBe('/docs/problems/key-wrong-kind');
});
