/** Counters and sets: changes that depend on what stands in a record, and lose nothing when many come at once. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: Awaited<ReturnType<typeof signUp>>;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: {
      name: 'huts',
      fields: [
        { name: 'name', type: 'text' },
        { name: 'seats', type: 'integer', min: 0, max: 40 },
        { name: 'visits', type: 'integer' },
        { name: 'litres', type: 'number' },
        { name: 'amenities', type: 'list' },
      ],
    },
  });
  await test.owner.call(operations.collections.patch, {
    params: { ...app.dev.params, collection: 'huts' },
    body: { rules: { read: 'TRUE', update: 'seats >= 0 OR seats IS NULL' } },
  });
});
afterAll(() => test.stop());

type Asked = 'app' | 'server';
/** Apps are asked for the rule and locked; servers add in one statement. */
const as = (by: Asked) => (by === 'app' ? { key: app.dev.clientKey, token: runa.token } : { key: app.dev.serverKey });
let number = 0;
async function hut(fields: object): Promise<string> {
  const id = `hut-${++number}`;
  expect((await test.app('PUT', `/data/huts/${id}`, { key: app.dev.serverKey, body: fields })).status).toBe(201);
  return id;
}
const change = (id: string, body: object, by: Asked = 'server', headers: Record<string, string> = {}) =>
  test.app('PATCH', `/data/huts/${id}`, { ...as(by), body, headers });

describe.each<Asked>(['app', 'server'])('a counter that an %s changes', (by) => {
  it('counts from 0 where nothing stands, beside others, and raises the version', async () => {
    const id = await hut({ name: 'Skarn', seats: 12 });
    const { status, body, headers } = await change(id, { _add: { seats: -2, visits: 1 } }, by);
    expect([status, body.seats, body.visits, body.version, headers.get('etag')]).toEqual([200, 10, 1, 2, '"2"']);
    expect((await change(id, { _add: { litres: 0.5 } }, by)).body.litres).toBe(0.5);
  });

  it('loses none of a hundred that come at once', async () => {
    const id = await hut({ seats: 0, visits: 0 });
    const answers = await Promise.all(Array.from({ length: 100 }, () => change(id, { _add: { visits: 1 } }, by)));
    expect(answers.map(({ status }) => status)).toEqual(Array.from({ length: 100 }, () => 200));
    const { body } = await test.app('GET', `/data/huts/${id}`, as(by));
    expect([body.visits, body.version]).toEqual([100, 101]);
  });

  it('stops at the limits of its field, and says so', async () => {
    const id = await hut({ seats: 3 });
    const answers = await Promise.all(Array.from({ length: 5 }, () => change(id, { _add: { seats: -1 } }, by)));
    expect(answers.map(({ status }) => status).sort()).toEqual([200, 200, 200, 409, 409]);
    const { body } = await change(id, { _add: { seats: 41 } }, by);
    expect(body).toMatchObject({
      type: '/docs/problems/limit-passed',
      detail: 'Field `seats` in `huts` would be 41; its most is 40. Nothing was added.',
      fields: [{ path: 'body._add.seats' }],
    });
    expect((await change(id, { _add: { visits: Number.MAX_SAFE_INTEGER } }, by)).status).toBe(200);
    expect((await change(id, { _add: { visits: 1 } }, by)).status).toBe(409);
    expect((await test.app('GET', `/data/huts/${id}`, as(by))).body).toMatchObject({ seats: 0, visits: Number.MAX_SAFE_INTEGER });
  });

  it.each([
    ['text', { _add: { seats: 'two' } }, '_add.seats'],
    ['a fraction to an integer', { _add: { seats: 0.5 } }, '_add.seats'],
    ['to a text', { _add: { name: 1 } }, '_add.name'],
    ['beside a plain change of the same field', { seats: 4, _add: { seats: 1 } }, '_add.seats'],
    ['past 2^53', { _add: { visits: 2 ** 60 } }, '_add.visits'],
    ['no object', { _add: 1 }, '_add'],
  ])('refuses %s, and changes nothing', async (_, body, path) => {
    const id = await hut({ name: 'Skarn', seats: 4 });
    expect(await change(id, body, by)).toMatchObject({ status: 422, body: { fields: [{ path: `body.${path}` }] } });
    expect((await test.app('GET', `/data/huts/${id}`, as(by))).body).toMatchObject({ seats: 4, version: 1 });
  });

  it('needs a record that is there, and keeps to If-Match', async () => {
    expect((await change('no-hut', { _add: { seats: 1 } }, by)).status).toBe(404);
    const id = await hut({ seats: 4 });
    expect((await change(id, { _add: { seats: 1 } }, by, { 'if-match': '"9"' })).status).toBe(412);
    expect((await change(id, { _add: { seats: 1 } }, by, { 'if-match': '"1"' })).body.seats).toBe(5);
  });
});

it('a counter keeps to access rules', async () => {
  const strict = { ...app.dev.params, collection: 'huts' };
  const id = await hut({ seats: 4 });
  await test.owner.call(operations.collections.patch, { params: strict, body: { rules: { update: 'seats > 3' } } });
  expect((await change(id, { _add: { seats: -1 } }, 'app')).status).toBe(403);
  expect((await change(id, { _add: { seats: 1 } }, 'app')).body.seats).toBe(5);
  await test.owner.call(operations.collections.patch, { params: strict, body: { rules: { update: 'TRUE' } } });
});

it('counters stand in the history, the feed and batches like any change', async () => {
  const id = await hut({ seats: 10 });
  const actions = [
    { action: 'patch', id, record: { _add: { seats: -3 } } },
    { action: 'patch', id, record: { _add: { seats: -3 }, name: 'Skarn' } },
  ];
  expect((await test.app('POST', '/data/huts/batch', { ...as('server'), body: { actions } })).status).toBe(200);
  const tooMany = [...actions, { action: 'patch', id, record: { _add: { seats: -3 } } }];
  const refused = await test.app('POST', '/data/huts/batch', { ...as('server'), body: { actions: tooMany } });
  expect([refused.status, refused.body.fields[0].path]).toEqual([409, 'body.actions.1.record._add.seats']);
  const { items } = await test.owner.call(operations.managedRecords.history, {
    params: { ...app.dev.params, collection: 'huts', id },
    query: {},
  });
  expect(items.map(({ version, changes }) => [version, changes.find(({ field }) => field === 'seats')?.to])).toEqual([
    [3, 4],
    [2, 7],
    [1, 10],
  ]);
});

describe('a set in a list', () => {
  it('takes items once, loses none of many that come at once, and lets go of what is taken out', async () => {
    const id = await hut({ amenities: ['stove'] });
    await Promise.all(
      Array.from({ length: 20 }, (_, i) => change(id, { _put: { amenities: [`item-${i}`, 'stove'] } }, i % 2 ? 'app' : 'server')),
    );
    const { body } = await test.app('GET', `/data/huts/${id}`, as('app'));
    expect([...body.amenities].sort()).toEqual(['stove', ...Array.from({ length: 20 }, (_, i) => `item-${i}`)].sort());
    const after = await change(id, { _drop: { amenities: ['stove', 'sauna'] }, _put: { amenities: ['well'] }, name: 'Skarn' });
    expect(after.body.amenities).toHaveLength(21);
    expect(after.body).toMatchObject({ name: 'Skarn', amenities: expect.arrayContaining(['well', 'item-3']) });
    const found = await test.app('GET', `/data/huts?filter=${encodeURIComponent("A_CONTAINS(amenities, ('well'))")}`, as('app'));
    expect(found.body.items.map((item: { id: string }) => item.id)).toEqual([id]);
  });

  it('is refused for a field that is no list, and for no items', async () => {
    const id = await hut({ name: 'Skarn' });
    expect((await change(id, { _put: { name: ['x'] } })).body.detail).toContain('is text, not a list');
    expect((await change(id, { _drop: { amenities: [] } })).status).toBe(422);
  });
});
