/** Import by key: rows change the records they name and create the others, and say what they would do before they do it. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let token: string;
let number = 0;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  const reply = await test.owner.call(operations.members.signIn, { body: { email: OWNER.email, password: OWNER.password, as: 'token' } });
  token = reply.token as string;
});
afterAll(() => test.stop());
beforeEach(async () => {
  app = await makeApp(test, `hiker-${++number}`);
  const fields = [
    { name: 'code', type: 'text' },
    { name: 'name', type: 'text', required: true },
    { name: 'bunks', type: 'integer', min: 1 },
    { name: 'opens', type: 'date' },
  ];
  await test.owner.call(operations.collections.create, { params: app.dev.params, body: { name: 'huts', fields } as never });
  await bring('code,name,bunks\nskarn,Skarn,12\nfell,Fellgate,8\n', {});
});

async function bring(text: string, query: Record<string, string>, format = 'csv') {
  const search = new URLSearchParams({ format, ...query });
  const reply = await fetch(`${test.address}/manage/v1/apps/${app.name}/environments/dev/collections/huts/import?${search}`, {
    method: 'POST',
    headers: { authorization: `Bearer ${token}`, 'content-type': format === 'csv' ? 'text/csv' : 'application/x-ndjson' },
    body: text,
  });
  return { status: reply.status, body: await reply.json() };
}
const huts = async () =>
  (await test.app('GET', '/data/huts?sort=code', { key: app.dev.serverKey })).body.items.map(
    ({ code, name, bunks, version }: Record<string, unknown>) => [code, name, bunks, version],
  );

const FILE = 'code;bunks;name\nskarn;14;Skarn\nfell;8;Fellgate\ncol;6;Hollow Col\n';

it('changes, leaves and creates by the key, and keeps what the file does not have', async () => {
  await bring('{"code":"skarn","opens":"2026-06-01"}\n', { key: 'code' }, 'ndjson');
  const checked = await bring(FILE, { key: 'code', check: 'true' });
  expect(checked.body).toMatchObject({ delimiter: ';', rejected: 0, byKey: { created: 1, changed: 1, same: 1 } });
  expect(await huts()).toHaveLength(2);
  expect((await bring(FILE, { key: 'code' })).body).toMatchObject({ stored: 2, byKey: { created: 1, changed: 1, same: 1 } });
  expect(await huts()).toEqual([
    ['col', 'Hollow Col', 6, 1],
    ['fell', 'Fellgate', 8, 1],
    ['skarn', 'Skarn', 14, 3],
  ]);
  const { body } = await test.app('GET', `/data/huts?filter=${encodeURIComponent("code = 'skarn'")}`, { key: app.dev.serverKey });
  expect(body.items[0].opens).toBe('2026-06-01');
});

it('writes of each record only what its row brings, where rows bring different fields', async () => {
  await bring('{"code":"skarn","bunks":20}\n{"code":"fell","name":"Fellgate Lodge"}\n', { key: 'code' }, 'ndjson');
  expect(await huts()).toEqual([
    ['fell', 'Fellgate Lodge', 8, 2],
    ['skarn', 'Skarn', 20, 2],
  ]);
});

it('can be sent again after it was stopped: what is there already stays as it is', async () => {
  await bring(FILE, { key: 'code' });
  expect((await bring(FILE, { key: 'code' })).body).toMatchObject({ stored: 0, byKey: { created: 0, changed: 0, same: 3 } });
});

it('goes by several fields, and by id', async () => {
  const two = await bring('code,name,bunks\nskarn,Skarn,13\nskarn,Skarn by the lake,4\n', { key: 'code,name' });
  expect(two.body.byKey).toEqual({ created: 1, changed: 1, same: 0 });
  const [first] = (await test.app('GET', '/data/huts', { key: app.dev.serverKey })).body.items;
  const byId = await bring(`id,bunks\n${first.id},21\n`, { key: 'id' });
  expect(byId.body).toMatchObject({ rejected: 0, byKey: { changed: 1 } });
});

it('stands in the feed and in the history like any change', async () => {
  const [{ id }] = (await test.app('GET', `/data/huts?filter=${encodeURIComponent("code = 'skarn'")}`, { key: app.dev.serverKey })).body
    .items;
  await bring('code,bunks\nskarn,20\n', { key: 'code' });
  const { items } = await test.owner.call(operations.managedRecords.history, {
    params: { ...app.dev.params, collection: 'huts', id },
    query: {},
  });
  expect(items[0]).toMatchObject({
    version: 2,
    action: 'update',
    changes: [{ field: 'bunks', from: 12, to: 20 }],
    by: { name: 'Mira Quill' },
  });
});

describe('a row is rejected', () => {
  it.each([
    ['without its key', 'code,name\n,Nameless\n', 'The key is missing: `code` is empty.'],
    ['with the key of a line before', 'code,name\ncol,Col\ncol,Col again\n', 'Line 2 has the same key.'],
    ['whose values do not fit, though its record is there', 'code,bunks\nskarn,0\n', 'at least 1'],
    ['that would be new and lacks what is required', 'code,bunks\ncol,5\n', 'name'],
  ])('%s', async (_, text, reason) => {
    const { body } = await bring(text, { key: 'code' });
    expect(body.rejected).toBe(1);
    expect(body.rejects[0].reason).toContain(reason);
    expect((await huts()).find(([code]: unknown[]) => code === 'skarn')).toEqual(['skarn', 'Skarn', 12, 1]);
  });

  it('whose key several records have', async () => {
    await bring('code,name\nskarn,Another\n', {});
    expect((await bring('code,bunks\nskarn,5\n', { key: 'code' })).body.rejects[0].reason).toContain('2 records have this key');
  });
});

it.each([
  ['a field that is none', 'colour', '`huts` has no field `colour`.'],
  ['several, of which one is none', 'code,colour', '`huts` has no field `colour`.'],
])('refuses %s as a key', async (_, key, words) => {
  const { status, body } = await bring(FILE, { key });
  expect([status, body.detail, body.fields[0].path]).toEqual([422, words, 'query.key']);
});
