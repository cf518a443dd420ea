/** One call on several collections: all or nothing, with references among its own new records. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, beforeEach, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let number = 0;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
});
afterAll(() => test.stop());
beforeEach(async () => {
  app = await makeApp(test, `hiker-${++number}`);
  const create = (name: string, fields: object[]) =>
    test.owner.call(operations.collections.create, { params: app.dev.params, body: { name, fields } as never });
  await create('huts', [
    { name: 'name', type: 'text' },
    { name: 'seats', type: 'integer', min: 0 },
  ]);
  await create('bookings', [
    { name: 'hut', type: 'reference', to: 'huts' },
    { name: 'nights', type: 'integer' },
  ]);
});

const send = (actions: object[], as: { key: string; token?: string; headers?: Record<string, string> } = { key: app.dev.serverKey }) =>
  test.app('POST', '/batch', { ...as, body: { actions } });
const list = async (collection: string) => (await test.app('GET', `/data/${collection}`, { key: app.dev.serverKey })).body.items;
const hut = { action: 'create', collection: 'huts', as: 'hut', record: { name: 'Skarn', seats: 3 } };

it('stores records that refer to each other, and does counters beside them', async () => {
  const { status, body } = await send([
    hut,
    { action: 'create', collection: 'bookings', record: { hut: { _new: 'hut' }, nights: 2 } },
    { action: 'create', collection: 'huts', record: { id: 'fellgate', seats: 9 } },
    { action: 'patch', collection: 'huts', id: 'fellgate', record: { _add: { seats: -2 } } },
  ]);
  expect([status, body.results.map(({ status: one }: { status: number }) => one)]).toEqual([200, [201, 201, 201, 200]]);
  expect(await list('bookings')).toMatchObject([{ hut: body.results[0].id, nights: 2 }]);
  expect((await list('huts')).find(({ id }: { id: string }) => id === 'fellgate').seats).toBe(7);
});

it.each([
  [
    'whose middle fails',
    [hut, { action: 'patch', collection: 'huts', id: 'none', record: {} }, { ...hut, as: 'other' }],
    404,
    'Action 2 of 3 (patch)',
  ],
  [
    'that refers to a name nobody has',
    [{ action: 'create', collection: 'bookings', record: { hut: { _new: 'hut' } } }, hut],
    422,
    'Action 1',
  ],
  ['with one name twice', [hut, hut], 422, 'Action 2'],
  [
    'with a counter past its limit',
    [
      hut,
      { action: 'put', collection: 'huts', id: 'a', record: { seats: 1 } },
      { action: 'patch', collection: 'huts', id: 'a', record: { _add: { seats: -2 } } },
    ],
    409,
    'Action 3 of 3',
  ],
])('%s stores nothing, and says which action it was', async (_, actions, status, words) => {
  const refused = await send(actions as object[]);
  expect([refused.status, refused.body.detail]).toEqual([status, expect.stringContaining(words)]);
  expect(refused.body.detail).toContain('Nothing of the batch was stored.');
  expect([await list('huts'), await list('bookings')]).toEqual([[], []]);
});

it('keeps to the access rules of each collection, is done once under a key, and is a command', async () => {
  const runa = await signUp(test, app.dev.clientKey, 'runa');
  const as = { key: app.dev.clientKey, token: runa.token, headers: { 'idempotency-key': 'skarn-and-its-booking' } };
  const actions = [hut, { action: 'create', collection: 'bookings', record: { hut: { _new: 'hut' } } }];
  expect((await send(actions, as)).status).toBe(200);
  expect((await send(actions, as)).status).toBe(200);
  expect([(await list('huts')).length, (await list('bookings'))[0].ownerId]).toEqual([1, runa.id]);
  await test.owner.call(operations.collections.patch, {
    params: { ...app.dev.params, collection: 'bookings' },
    body: { rules: { create: 'FALSE' } },
  });
  expect((await send(actions, { key: app.dev.clientKey, token: runa.token })).status).toBe(403);
  expect(await list('huts')).toHaveLength(1);
  const { results } = await test.owner.call(operations.batches.managed, {
    params: app.dev.params,
    body: { actions: [{ action: 'create', collection: 'huts', record: { name: 'By hand' } }] },
  });
  expect(results).toMatchObject([{ status: 201 }]);
  const { items } = await test.owner.call(operations.audit.list, { query: { limit: 1 } as never });
  expect(items[0]).toMatchObject({ action: 'batches.managed', subject: 'huts', after: { actions: 1 } });
});
