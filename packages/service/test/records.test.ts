import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: Awaited<ReturnType<typeof signUp>>;
let kenji: Awaited<ReturnType<typeof signUp>>;
const as = (user?: { token: string }) => ({ key: app.dev.clientKey, ...(user ? { token: user.token } : {}) });
const store = (collection: string, body: object, user: { token: string } | undefined = runa) =>
  test.app('POST', `/data/${collection}`, { ...as(user), body });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  kenji = await signUp(test, app.dev.clientKey, 'kenji');
});
afterAll(() => test.stop());

describe('a first write in dev', () => {
  it('makes the collection and its fields, and answers what was stored', async () => {
    const body = {
      name: 'Skarn',
      bunks: 12,
      lengthKm: 1.5,
      open: true,
      position: { type: 'Point', coordinates: [8.5, 61.2] },
      amenities: ['stove', 'spring'],
      warden: { name: 'Wanda' },
      note: null,
    };
    const made = await store('cabins', body);
    expect(made).toMatchObject({ status: 201, body: { name: 'Skarn', version: 1, ownerId: runa.id } });
    expect(made.headers.get('etag')).toBe('"1"');
    const { note: _, ...kept } = body;
    const read = await test.app('GET', `/data/cabins/${made.body.id}`, as(runa));
    expect(read.body).toEqual({
      id: made.body.id,
      createdAt: made.body.createdAt,
      updatedAt: made.body.createdAt,
      version: 1,
      ownerId: runa.id,
      ...kept,
    });
    const { items } = await test.owner.call(operations.collections.list, { params: app.dev.params });
    expect(items.find(({ name }) => name === 'cabins')).toMatchObject({
      records: 1,
      rules: { read: "ownerId = me('id')" },
      fields: [
        { name: 'name', type: 'text' },
        { name: 'bunks', type: 'integer' },
        { name: 'lengthKm', type: 'number' },
        { name: 'open', type: 'boolean' },
        { name: 'position', type: 'place' },
        { name: 'amenities', type: 'list' },
        { name: 'warden', type: 'object' },
      ],
    });
  });

  it('widens integers, and refuses what does not fit, storing nothing', async () => {
    await store('stages', { km: 3 });
    expect((await store('stages', { km: 4.5 })).body.km).toBe(4.5);
    const refused = await store('stages', { km: 'four', extra: 1 });
    expect(refused).toMatchObject({
      status: 422,
      body: { fields: [{ path: 'body.km', problem: 'Field `km` in `stages` must be a number; got "four".' }] },
    });
    const list = await test.app('GET', '/data/stages', as(runa));
    expect(list.body.items.map(({ km }: { km: number }) => km).sort()).toEqual([3, 4.5]);
    expect(list.body.items[0]).not.toHaveProperty('extra');
  });

  it('of two at once makes one collection, and loses neither record', async () => {
    const made = await Promise.all(Array.from({ length: 8 }, (_, i) => store('races', { runner: `r${i}`, [`field${i}`]: i })));
    expect(made.map(({ status }) => status)).toEqual(Array(8).fill(201));
    expect((await test.app('GET', '/data/races', as(runa))).body.items).toHaveLength(8);
  });

  it.each(['select', 'users', 'order', 'group'])('takes SQL’s own words as names: %s', async (word) => {
    const made = await store(word, { [word]: 'x', table: 1, from: true });
    expect((await test.app('GET', `/data/${word}/${made.body.id}`, as(runa))).body).toMatchObject({ [word]: 'x', table: 1, from: true });
  });

  it.each(["huts'--", 'a.b', 'a$b', '🏔', 'Huts', '`huts`', 'x'.repeat(64)])('refuses the collection name %s', async (name) => {
    expect(await store(encodeURIComponent(name), { a: 1 })).toMatchObject({ status: 422, body: { fields: [{ path: 'path.collection' }] } });
  });

  it('refuses names with quotes, dots, $ and emoji as fields, each by its name', async () => {
    const refused = await store('huts', { "a'b": 1, 'a.b': 1, a$b: 1, '🏔': 1, __proto__x: 1 });
    expect(refused.status).toBe(422);
    expect(refused.body.fields.map(({ path }: { path: string }) => path)).toEqual([
      "body.a'b",
      'body.a.b',
      'body.a$b',
      'body.🏔',
      'body.__proto__x',
    ]);
  });
});

it('in live, refuses an unknown collection or field by name', async () => {
  const hiker = await signUp(test, app.live.clientKey, 'runa');
  const live = { key: app.live.clientKey, token: hiker.token };
  expect(await test.app('POST', '/data/huts', { ...live, body: { name: 'x' } })).toMatchObject({
    status: 404,
    body: { type: '/docs/problems/collection-unknown', detail: expect.stringContaining('`huts`') },
  });
  await test.owner.call(operations.collections.create, {
    params: app.live.params,
    body: { name: 'huts', fields: [{ name: 'name', type: 'text' }] },
  });
  expect(await test.app('POST', '/data/huts', { ...live, body: { name: 'x', bunks: 3 } })).toMatchObject({
    status: 422,
    body: { fields: [{ path: 'body.bunks', problem: '`huts` has no field `bunks`.', expected: 'one of: name' }] },
  });
  expect((await test.app('POST', '/data/huts', { ...live, body: { name: 'x' } })).status).toBe(201);
});

describe('versions', () => {
  it('rise with every write, and a wrong If-Match is told the current one', async () => {
    const { body } = await store('notes', { text: 'a' });
    const at = `/data/notes/${body.id}`;
    const patched = await test.app('PATCH', at, { ...as(runa), body: { text: 'b' }, headers: { 'if-match': '"1"' } });
    expect([patched.body.version, patched.headers.get('etag')]).toEqual([2, '"2"']);
    expect(await test.app('PATCH', at, { ...as(runa), body: { text: 'c' }, headers: { 'if-match': '"1"' } })).toMatchObject({
      status: 412,
      body: { currentVersion: 2 },
    });
    expect(await test.app('PUT', at, { ...as(runa), body: { text: 'c' }, headers: { 'if-match': '"1"' } })).toMatchObject({
      status: 412,
      body: { currentVersion: 2 },
    });
    expect(await test.app('DELETE', at, { ...as(runa), headers: { 'if-match': '"1"' } })).toMatchObject({
      status: 412,
      body: { currentVersion: 2 },
    });
    expect((await test.app('GET', at, { ...as(runa), headers: { 'if-none-match': '"2"' } })).status).toBe(304);
    expect((await test.app('GET', at, as(runa))).body.text).toBe('b');
    expect(await test.app('PATCH', at, { ...as(runa), body: {}, headers: { 'if-match': 'two' } })).toMatchObject({
      status: 422,
      body: { fields: [{ path: 'headers.If-Match' }] },
    });
  });

  it('let many writers at once through one after the other, without losing a change', async () => {
    const { body } = await store('counters', { a: 0, b: 0, c: 0, d: 0 });
    const answers = await Promise.all(
      ['a', 'b', 'c', 'd'].map((name) => test.app('PATCH', `/data/counters/${body.id}`, { ...as(runa), body: { [name]: 1 } })),
    );
    expect(answers.map(({ status }) => status)).toEqual([200, 200, 200, 200]);
    expect((await test.app('GET', `/data/counters/${body.id}`, as(runa))).body).toMatchObject({ a: 1, b: 1, c: 1, d: 1, version: 5 });
  });
});

it('replaces whole with PUT, creates with 201, and merges with PATCH', async () => {
  const at = '/data/plans/summer';
  expect(await test.app('PUT', at, { ...as(runa), body: { title: 'Summer', parts: { a: 1, b: 2 } } })).toMatchObject({
    status: 201,
    body: { id: 'summer', version: 1 },
  });
  expect((await test.app('PATCH', at, { ...as(runa), body: { parts: { a: null, c: 3 } } })).body).toMatchObject({
    title: 'Summer',
    parts: { b: 2, c: 3 },
    version: 2,
  });
  expect((await test.app('PUT', at, { ...as(runa), body: { title: 'Autumn' } })).body).toMatchObject({
    title: 'Autumn',
    parts: null,
    version: 3,
  });
  expect(await test.app('PUT', at, { ...as(runa), body: {}, headers: { 'if-none-match': '*' } })).toMatchObject({ status: 412 });
  expect((await test.app('DELETE', at, as(runa))).status).toBe(204);
  expect((await test.app('GET', at, as(runa))).status).toBe(404);
  expect((await test.app('DELETE', at, as(runa))).status).toBe(404);
});

it('takes back a whole record as it was read', async () => {
  const { body } = await store('plans', { title: 'Winter' });
  const { body: read } = await test.app('GET', `/data/plans/${body.id}`, as(runa));
  expect(await test.app('PUT', `/data/plans/${body.id}`, { ...as(runa), body: { ...read, title: 'Spring' } })).toMatchObject({
    status: 200,
    body: { title: 'Spring', ownerId: runa.id, version: 2 },
  });
});

it('adds one entry to the change feed for each write', async () => {
  const { body } = await store('tracked', { n: 1 });
  await test.app('PATCH', `/data/tracked/${body.id}`, { ...as(runa), body: { n: 2 } });
  await test.app('DELETE', `/data/tracked/${body.id}`, as(runa));
  const environment = await test.service.parts.directory.environment('quillfell-hiker', 'dev');
  const feed = await test.service.parts.database.rows<{ action: string; version: number }>(
    `SELECT action, version FROM \`${environment.db.name}\`._feed WHERE recordId = ? ORDER BY entry`,
    [body.id],
  );
  expect(feed.map(({ action, version }) => `${action} ${version}`)).toEqual(['create 1', 'update 2', 'delete 3']);
});

describe('lists', () => {
  beforeAll(async () => {
    for (let i = 0; i < 25; i++)
      await store('peaks', { name: `Peak ${i}`, altitudeM: 1000 + (i % 5) * 100, ...(i % 3 ? { region: i % 2 ? 'north' : 'south' } : {}) });
  });
  const list = (query: Record<string, string>) => test.app('GET', `/data/peaks?${new URLSearchParams(query)}`, as(runa));

  it('page through everything once, in any order, with nulls in it', async () => {
    for (const sort of ['name', '-altitudeM', 'region,-name', '-region', '']) {
      const seen: string[] = [];
      for (let cursor = ''; ; ) {
        const { body, headers } = await list({ limit: '7', ...(sort ? { sort } : {}), ...(cursor ? { cursor } : {}) });
        seen.push(...body.items.map(({ id }: { id: string }) => id));
        if (!body.next) break;
        expect(headers.get('link')).toContain('rel="next"');
        cursor = body.next;
      }
      expect(new Set(seen).size).toBe(25);
      expect(seen).toHaveLength(25);
    }
  });

  it('tell texts apart by every letter, also by case and by spaces at the end', async () => {
    for (const name of ['peak 1', 'Peak 1 ', 'Péak 1']) expect((await list({ filter: `name = '${name}'` })).body.items).toEqual([]);
    expect((await list({ filter: "name = 'Peak 1'" })).body.items).toHaveLength(1);
  });

  it('filter by what lies inside objects, in rules too, each value as what it is compared with', async () => {
    const put = (id: string, meta: object) => test.app('PUT', `/data/tools/${id}`, { key: app.dev.serverKey, body: { name: id, meta } });
    await put('saw', { service: 'repair', year: 2024, made: { by: 'Tarn' } });
    await put('axe', { service: 'repair', year: '2024' });
    await put('rope', { service: 'hire', year: 2025, tags: ['ridge'] });
    const found = async (filter: string, as: object = { key: app.dev.serverKey }) =>
      (await test.app('GET', `/data/tools?sort=id&filter=${encodeURIComponent(filter)}`, as)).body.items.map(
        ({ id }: { id: string }) => id,
      );
    expect(await found("meta.service = 'repair'")).toEqual(['axe', 'saw']);
    expect(await found('meta.year >= 2024')).toEqual(['rope', 'saw']);
    expect(await found("meta.made.by LIKE 'T%' OR A_CONTAINS(meta.tags, ('ridge'))")).toEqual(['rope', 'saw']);
    expect(await found('meta.made IS NULL')).toEqual(['axe', 'rope']);
    await test.owner.call(operations.collections.patch, {
      params: { ...app.dev.params, collection: 'tools' },
      body: { rules: { read: "meta.service = 'hire'" } },
    });
    expect(await found('TRUE', as(runa))).toEqual(['rope']);
    expect((await test.app('GET', '/data/tools/saw', as(runa))).status).not.toBe(200);
  });

  it('count places by the cells of a grid, each told by its centre', async () => {
    const actions = [
      [8.1, 61.1],
      [8.4, 61.4],
      [8.6, 61.2],
      [-0.1, -0.1],
    ].map((coordinates) => ({ action: 'create', record: { position: { type: 'Point', coordinates } } }));
    await test.app('POST', '/data/photos/batch', { key: app.dev.serverKey, body: { actions } });
    const summary = async (group: string) =>
      (await test.app('GET', `/summaries/photos?group=${encodeURIComponent(group)}`, { key: app.dev.serverKey })).body;
    const { groups, more } = await summary('position:0.5');
    expect(more).toBe(false);
    expect(groups).toHaveLength(3);
    for (const [coordinates, count] of [
      [[8.25, 61.25], 2],
      [[8.75, 61.25], 1],
      [[-0.25, -0.25], 1],
    ])
      expect(groups).toContainEqual({ 'position:0.5': { type: 'Point', coordinates }, count });
    expect((await summary('position')).fields[0].expected).toContain('such as position:0.5');
    for (const wrong of ['position:0', 'position:90', 'position:week', 'position:-1']) expect((await summary(wrong)).status).toBe(422);
  });

  it('filter, sort and cut to fields', async () => {
    const { body } = await list({ filter: "altitudeM >= 1300 AND region = 'north'", sort: '-altitudeM,name', fields: 'name,altitudeM' });
    expect(body.items.length).toBeGreaterThan(1);
    for (const item of body.items) expect(Object.keys(item).sort()).toEqual(['altitudeM', 'id', 'name', 'version']);
    expect((await list({ filter: 'region IS NULL' })).body.items).toHaveLength(9);
  });

  it.each([
    [{ filter: 'altitude > 3' }, 'did you mean `altitudeM`'],
    [{ filter: "altitudeM > 'high'" }, '`altitudeM`, which holds a number, with a text'],
    [{ sort: 'altitude' }, 'Cannot sort by `altitude`'],
    [{ limit: '5000' }, 'at most 1000'],
    [{ cursor: 'abc.def' }, 'The cursor was not issued here.'],
    [{ fields: 'nam' }, 'no field `nam`'],
    [{ limt: '3' }, 'Unknown query parameter `limt`; did you mean `limit`?'],
  ])('answer %j with what to do', async (query, words) => {
    const { status, body } = await list(query as unknown as Record<string, string>);
    expect(status).toBe(422);
    expect(`${body.detail} ${JSON.stringify(body.fields ?? '')}`).toContain(words);
  });
});

describe('access rules', () => {
  it('keep a record to its owner at first', async () => {
    const { body } = await store('diaries', { text: 'mine' });
    const at = `/data/diaries/${body.id}`;
    for (const [method, content] of [['GET'], ['PATCH', { text: 'x' }], ['PUT', { text: 'x' }], ['DELETE']] as const) {
      const refused = await test.app(method, at, { ...as(kenji), ...(content ? { body: content } : {}) });
      expect(refused).toMatchObject({
        status: 403,
        body: { type: '/docs/problems/access-refused', detail: expect.stringContaining('somebody else') },
      });
    }
    expect((await test.app('GET', '/data/diaries', as(kenji))).body.items).toEqual([]);
    expect(await test.app('POST', '/data/diaries', { ...as(), body: { text: 'x' } })).toMatchObject({
      status: 403,
      body: { detail: expect.stringContaining('nobody is signed in') },
    });
    expect((await test.app('GET', at, as(runa))).body.text).toBe('mine');
  });

  it('open as far as they say, and have to fit the fields', async () => {
    await store('board', { text: 'a' });
    const params = { ...app.dev.params, collection: 'board' };
    await test.owner.call(operations.collections.patch, {
      params,
      body: { rules: { read: 'TRUE', create: "me('id') IS NOT NULL", update: 'FALSE' } },
    });
    expect((await test.app('GET', '/data/board', as())).body.items).toHaveLength(1);
    expect((await store('board', { text: 'b' }, kenji)).status).toBe(201);
    expect(
      (
        await test.app('PATCH', `/data/board/${(await test.app('GET', '/data/board', as())).body.items[0].id}`, {
          ...as(runa),
          body: { text: 'x' },
        })
      ).status,
    ).toBe(403);
    await expect(test.owner.call(operations.collections.patch, { params, body: { rules: { read: 'txt = 3' } } })).rejects.toMatchObject({
      status: 422,
    });
  });

  it('do not bind a server key with the scope, which may also name an owner', async () => {
    const key = app.dev.serverKey;
    const made = await test.app('POST', '/data/diaries', { key, body: { text: 'for Kenji', ownerId: kenji.id } });
    expect(made.body.ownerId).toBe(kenji.id);
    expect((await test.app('GET', `/data/diaries/${made.body.id}`, as(kenji))).status).toBe(200);
    expect(await test.app('POST', '/data/diaries', { ...as(runa), body: { text: 'x', ownerId: kenji.id } })).toMatchObject({
      status: 422,
      body: { fields: [{ path: 'body.ownerId' }] },
    });
  });
});
