/** Input that is meant to break what reads it: each is a clear refusal, or data like any other. */
import { gzipSync } from 'node:zlib';
import { allOperations, operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { fuzz, prepareAs } from '../fuzz/calls.mjs';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());
const trusted = () => ({ key: app.dev.serverKey });

describe('rights', () => {
  const wide = JSON.stringify(Object.fromEntries(Array.from({ length: 2_000 }, (_, i) => [`field${i}`, i])));
  const withBody = allOperations.filter(({ body, caller }) => body && caller.kind !== 'anyone');
  const call = async ({ method, path }: (typeof allOperations)[number], body: string, headers: Record<string, string> = {}) => {
    const filled = path
      .replace('{app}', 'quillfell-hiker')
      .replace('{environment}', 'dev')
      .replaceAll(/\{\w+\}/g, 'device-0001');
    const reply = await fetch(test.address + filled, { method, headers: { 'content-type': 'application/json', ...headers }, body });
    return { status: reply.status, body: (await reply.json()) as { type: string; fields?: unknown[] } };
  };

  it.each(withBody.map((operation) => [operation.id, operation] as const))('come before the body of %s is read', async (_id, operation) => {
    for (const body of [wide, '{"half":', `"${'x'.repeat(1_200_000)}"`]) expect((await call(operation, body)).status).toBe(401);
    if (operation.caller.kind === 'member') return;
    const scoped = { 'orchard-key': weak };
    expect((await call(operation, wide, scoped)).status, 'with a key of another scope').toBe(403);
  });

  let weak = '';
  beforeAll(async () => {
    const params = { ...app.dev.params, client: 'office' };
    // No call with a body takes this scope.
    const made = await test.owner.call(operations.clients.createKey, { params, body: { name: 'weak', scopes: ['notify:read'] } });
    weak = made.key as string;
  });

  it('granted, too many fields are refused in one sentence and a short list', async () => {
    const refused = await test.app('POST', '/data/huts', { ...trusted(), body: wide });
    expect(refused).toMatchObject({ status: 422, body: { detail: expect.stringContaining('2,000 members') } });
    expect(refused.body.fields).toHaveLength(1);
    const signIn = await test.app('POST', '/sessions', { key: app.dev.clientKey, body: wide });
    expect(signIn.body.fields.length).toBeLessThanOrEqual(50);
  });
});

describe('names that every object has', () => {
  it.each(['constructor', 'toString', 'hasOwnProperty', 'valueOf'])('make a field like any other: %s', async (name) => {
    await test.app('PUT', '/data/named/with', { ...trusted(), body: { [name]: 'x', other: 1 } });
    await test.app('PUT', '/data/named/without', { ...trusted(), body: { other: 2 } });
    const read = async (id: string) => (await test.app('GET', `/data/named/${id}`, trusted())).body;
    expect([(await read('with'))[name], (await read('without'))[name]]).toEqual(['x', null]);
    const { body } = await test.app('GET', `/data/named?${new URLSearchParams({ filter: `${name} = 'x'` })}`, trusted());
    expect(body.items.map(({ id }: { id: string }) => id)).toEqual(['with']);
    await test.app('PATCH', '/data/named/with', { ...trusted(), body: { [name]: null } });
    expect((await read('with'))[name]).toBeNull();
    const history = await test.app('GET', '/history/named/with', trusted());
    expect(history.body.items[0].changes).toEqual([{ field: name, from: 'x', to: null }]);
  });

  it('are refused where no field can be called so, and stand for nothing where they are not known', async () => {
    const proto = await test.app('POST', '/data/named', { ...trusted(), body: '{"__proto__": {"other": 3}}' });
    expect(proto).toMatchObject({ status: 422, body: { detail: expect.stringContaining('__proto__') } });
    for (const filter of ['{"op":"constructor","args":[]}', "toString() = 'x'"])
      expect((await test.app('GET', `/data/named?${new URLSearchParams({ filter })}`, trusted())).status).toBe(422);
    expect((await test.app('GET', '/summaries/named?group=createdAt:constructor', trusted())).status).toBe(422);
    expect((await test.app('GET', '/data/constructor', trusted())).status).toBe(404);
  });
});

describe('a body', () => {
  const post = (path: string, body: string | Uint8Array<ArrayBuffer>, headers: Record<string, string> = {}) =>
    fetch(`${test.address}/app/v1${path}`, {
      method: 'POST',
      headers: { 'orchard-key': app.dev.serverKey, 'content-type': 'application/json', ...headers },
      body,
    });

  it.each([
    ['half a surrogate pair deep inside', '{"a":{"b":["\\ud800"]}}'],
    ['half a surrogate pair as a name', '{"a":{"\\udc00":1}}'],
    ['10,000 lists in each other', `{"a":${'['.repeat(10_000)}${']'.repeat(10_000)}}`],
    ['a place nested without end', `{"at":{"type":"Point","coordinates":${'['.repeat(5_000)}${']'.repeat(5_000)}}}`],
  ])('with %s is refused, with an Idempotency-Key too', async (_what, body) => {
    for (const headers of [{}, { 'idempotency-key': 'the-same-key-again' }] as Record<string, string>[])
      for (const path of ['/data/hostile', '/notifications', '/channels/ridge/messages'])
        expect((await post(path, body, headers)).status).toBe(422);
  });

  it.each(['gzip', 'deflate', 'br'])('that is not %s though it says so is refused, and one that is, is read', async (coding) => {
    const refused = await post('/data/hostile', '{"name":"x"}', { 'content-encoding': coding });
    expect([refused.status, ((await refused.json()) as { detail: string }).detail]).toEqual([
      400,
      expect.stringContaining('Content-Encoding'),
    ]);
    if (coding === 'gzip')
      expect((await post('/data/hostile', new Uint8Array(gzipSync('{"name":"x"}')), { 'content-encoding': 'gzip' })).status).toBe(201);
  });
});

describe('a pattern', () => {
  const set = (pattern: string) =>
    test.owner.call(operations.collections.create, {
      params: app.dev.params,
      body: { name: `p${Math.random().toString(36).slice(2, 10)}`, fields: [{ name: 'code', type: 'text', pattern }] },
    });

  it('that would take forever is matched at once', async () => {
    const { name } = await set('(a+)+b');
    const started = performance.now();
    const refused = await test.app('POST', `/data/${name}`, { ...trusted(), body: { code: 'a'.repeat(50_000) } });
    expect(refused.status).toBe(422);
    expect(performance.now() - started).toBeLessThan(20_000);
    expect((await test.app('POST', `/data/${name}`, { ...trusted(), body: { code: 'aaab' } })).status).toBe(201);
  });

  it.each([
    ['(?=x)y', 'look-ahead'],
    ['(?<!x)y', 'look-behind'],
    ['(a)\\1', 'back-references'],
    ['(', 'parenthesis|group|Invalid'],
  ])('%s is refused with what it needs', async (pattern, words) => {
    await expect(set(pattern)).rejects.toMatchObject({ problem: 'invalid-input', detail: expect.stringMatching(words) });
  });

  it('of a version before is still matched, apart and for a short time, and the team is told to replace it', async () => {
    const { name } = await set('[a-z]+');
    const { database, directory, catalogue } = test.service.parts;
    const environment = await directory.environment('quillfell-hiker', 'dev');
    const keep = (pattern: string) =>
      database.run(`UPDATE \`${environment.db.name}\`._collections SET definition = ?, revision = revision + 1 WHERE name = ?`, [
        JSON.stringify({ fields: { code: { pattern } } }),
        name,
      ]);
    await keep('(?=.*\\d)([a-z0-9]+)+');
    catalogue.forget(environment);
    const store = (code: string) => test.app('POST', `/data/${name}`, { ...trusted(), body: { code } });
    expect([(await store('abc1')).status, (await store('abc')).status]).toEqual([201, 422]);
    const slow = await store(`${'a1'.repeat(30)}!`);
    expect(slow).toMatchObject({ status: 422, body: { detail: expect.stringContaining('longer than') } });
    expect((await store('abc2')).status, 'the next one is matched again').toBe(201);
    const { tellSlowPatterns } = await import('../src/data/collections/patterns.js');
    await tellSlowPatterns(test.service.parts, environment);
    const { items } = await test.owner.call(operations.notices.list, {});
    expect(items.map(({ title }) => title)).toContain(`Replace the pattern of \`code\` in \`${name}\``);
  });

  it('is not tried out by a viewer', async () => {
    await test.owner.call(operations.members.add, {
      body: {
        email: 'ines@quillfell.example',
        name: 'Ines',
        password: 'orchard-in-bloom',
        roles: [{ app: 'quillfell-hiker', role: 'viewer' }],
      },
    });
    const session = await fetch(`${test.address}/manage/v1/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ email: 'ines@quillfell.example', password: 'orchard-in-bloom', as: 'token' }),
    });
    const { token } = (await session.json()) as { token: string };
    const { name } = await set('[a-z]+');
    const preview = await fetch(`${test.address}/manage/v1/apps/quillfell-hiker/environments/dev/collections/${name}/changes/preview`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', authorization: `Bearer ${token}` },
      body: JSON.stringify({ change: 'drop', name: 'code' }),
    });
    expect(preview.status).toBe(403);
  });
});

describe('calls made from the contract', () => {
  it('2,000 of them, right and wrong, never fail in the service', async () => {
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    expect(runa.token).toBeTruthy();
    const token = await eventually(async () => {
      const reply = await fetch(`${test.address}/manage/v1/session`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ email: 'mira@quillfell.example', password: 'orchard-in-bloom', as: 'token' }),
      });
      return ((await reply.json()) as { token: string }).token;
    });
    const report = await fuzz(await prepareAs(test.address, token), { seed: 7, calls: 2_000, atOnce: 4 });
    expect(report.failures).toEqual([]);
    expect(report.calls).toBe(2_000);
  });
});
