import { request as httpRequest } from 'node:http';
import { allOperations, operations, type Usage, type UsageSplit } from '@orchard/contract';
import { readCounts } from '../src/operations/telemetry/countStore.js';
import { insertCounts } from '../src/operations/telemetry/recordStore.js';
import { forgetCounts } from '../src/operations/telemetry/rollUps.js';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: Awaited<ReturnType<typeof signUp>>;
const find = (filter: string) =>
  eventually(async () => (await test.owner.call(operations.telemetry.requests, { params: app.dev.params, query: { filter } })).items[0]);
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
});
afterAll(() => test.stop());

describe('a recorded call', () => {
  it('tells route, status, times, client, user, device, trace and error', async () => {
    const traceparent = '00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01';
    await test.app('POST', '/data/huts', { key: app.dev.clientKey, token: runa.token, body: { bunks: 3 } });
    const answer = await test.app('POST', '/data/huts', {
      key: app.dev.clientKey,
      token: runa.token,
      body: { bunks: 'x' },
      headers: { traceparent, 'orchard-device': 'device-of-runa' },
    });
    expect(answer.headers.get('traceparent')).toMatch(/^00-4bf92f3577b34da6a3ce929d0e0e4736-[0-9a-f]{16}-01$/);
    expect(answer.headers.get('orchard-request')).toBe(answer.body.request);
    const listed = await find("trace = '4bf92f3577b34da6a3ce929d0e0e4736'");
    const full = await test.owner.call(operations.telemetry.request, { params: { ...app.dev.params, request: listed.id } });
    expect(full).toMatchObject({
      id: answer.body.request,
      method: 'POST',
      route: '/app/v1/data/{collection}',
      path: '/app/v1/data/huts',
      status: 422,
      client: 'hiker-ios',
      userId: runa.id,
      deviceId: 'device-of-runa',
      problem: 'invalid-input',
      detail: answer.body.detail,
      parentSpan: '00f067aa0ba902b7',
      bytesIn: 13,
    });
    const stored = await find("route = '/app/v1/data/{collection}' AND status = 201");
    expect(stored.databaseMs).toBeGreaterThan(0);
    expect(stored.durationMs).toBeGreaterThanOrEqual(stored.databaseMs);
  });

  it('is one that leads nowhere, too', async () => {
    expect((await test.app('GET', '/nowhere', { key: app.dev.clientKey })).status).toBe(404);
    expect(await find("path = '/app/v1/nowhere'")).toMatchObject({ route: '/app/v1/…', status: 404, client: 'hiker-ios' });
  });

  it('holds no key, token or password', async () => {
    await test.app('POST', '/sessions', { key: app.dev.clientKey, body: { email: runa.email, password: 'a-secret-nobody-saw' } });
    await find("route = '/app/v1/sessions'");
    const {
      db: { name: database },
    } = await test.service.parts.directory.environment(app.name, 'dev');
    const rows = JSON.stringify(await test.service.parts.database.rows(`SELECT * FROM \`${database}\`._requests`));
    for (const secret of [app.dev.clientKey, runa.token, 'a-secret-nobody-saw']) expect(rows).not.toContain(secret);
  });
});

describe('a recorded call in full', () => {
  const refuse = (body: unknown) =>
    test.app('POST', '/data/huts', {
      key: app.dev.clientKey,
      token: runa.token,
      body,
      headers: { 'user-agent': 'QuillfellHiker/2.4.1 (iOS 19.2)' },
    });
  const full = async (id: string) => test.owner.call(operations.telemetry.request, { params: { ...app.dev.params, request: id } });

  it('shows where its time went, its headers without credentials, and its bodies with secrets masked', async () => {
    const { body } = await refuse({ name: 'Greyback', bunks: 'many', password: 'a-secret-nobody-saw' });
    await find(`id = '${body.request}'`);
    const { timeline, headers, bodies, version, target } = await full(body.request);
    expect(version).toBe('2.4.1');
    expect(target).toBe('huts');
    expect(timeline.map(({ step }) => step)).toEqual(expect.arrayContaining(['key', 'user', 'body', 'handler']));
    expect(headers?.request).toMatchObject({ 'user-agent': 'QuillfellHiker/2.4.1 (iOS 19.2)', 'orchard-key': '…', authorization: '…' });
    expect(headers?.response['content-type']).toContain('application/problem+json');
    expect(bodies?.request).toContain('"name":"Greyback"');
    expect(JSON.stringify(bodies)).not.toContain('a-secret-nobody-saw');
    expect(JSON.parse(bodies?.response ?? '')).toMatchObject({ status: 422, request: body.request });
  });

  it('shows each statement within it', async () => {
    const { headers } = await test.app('GET', '/data/huts', { key: app.dev.serverKey });
    const id = headers.get('orchard-request') as string;
    await find(`id = '${id}'`);
    const { timeline, durationMs } = await full(id);
    const statement = timeline.find(({ step, detail }) => step === 'statement' && detail === 'SELECT huts');
    expect(statement?.durationUs).toBeGreaterThan(0);
    expect((statement?.startUs ?? 0) + (statement?.durationUs ?? 0)).toBeLessThanOrEqual(durationMs * 1000 + 1);
  });

  it('shows how long an access rule took, as a step of its own', async () => {
    const rules = { read: 'TRUE', create: "name <> 'Nowhere'", update: 'FALSE', delete: 'FALSE' };
    await test.app('POST', '/data/ruled', { key: app.dev.serverKey, body: { name: 'Larch Hut' } });
    await test.owner.call(operations.collections.patch, { params: { ...app.dev.params, collection: 'ruled' }, body: { rules } });
    const refused = await test.app('POST', '/data/ruled', { key: app.dev.clientKey, body: { name: 'Nowhere' } });
    expect(refused.body.type).toBe('/docs/problems/access-refused');
    await find(`id = '${refused.body.request}'`);
    expect((await full(refused.body.request)).timeline.map(({ step }) => step)).toContain('rules');
  });

  it('keeps no bodies where the environment does not allow it, and masks the fields it names', async () => {
    const change = (body: object) => test.owner.call(operations.telemetry.changeRecording, { params: app.dev.params, body });
    await change({ maskedFields: ['name'] });
    const masked = await refuse({ name: 'Greyback', bunks: 'many' });
    await find(`id = '${masked.body.request}'`);
    expect((await full(masked.body.request)).bodies?.request).toBe('{"name":"…","bunks":"many"}');
    expect(await change({ bodies: false })).toMatchObject({ headers: true, bodies: false, maskedFields: ['name'] });
    const without = await refuse({ name: 'Greyback', bunks: 'many' });
    await find(`id = '${without.body.request}'`);
    expect((await full(without.body.request)).bodies).toBeNull();
  });

  it('is kept, and counted by minute, hour and day, for as many days as are set; a longer step is never forgotten first', async () => {
    const change = (keptDays: object) =>
      test.owner.call(operations.telemetry.changeRecording, { params: app.dev.params, body: { keptDays } });
    expect((await change({ minutes: 10, requests: 3 })).keptDays).toEqual({ requests: 3, minutes: 10, hours: 100, days: 400 });
    await expect(change({ hours: 5 })).rejects.toMatchObject({
      problem: 'invalid-input',
      detail: expect.stringContaining('here it is 10, 5 and 400 days'),
    });
    await expect(change({ minutes: 0 })).rejects.toMatchObject({ problem: 'invalid-input' });
    const environment = await test.service.parts.directory.environment(app.name, 'dev');
    const count = {
      kind: 'call',
      method: 'GET',
      route: '/old',
      target: '',
      client: '',
      status: 200,
      problem: '',
      calls: 1,
      sumUs: 9,
      histogram: new Map([[3, 1]]),
    } as const;
    const daysAgo = (days: number) => Math.floor(Date.now() / 86_400_000 - days) * 86_400_000;
    await insertCounts(
      environment.db,
      'minute',
      'test',
      [9, 11].map((days) => ({ ...count, at: daysAgo(days) })),
    );
    await forgetCounts(environment.db, Date.now(), (await change({})).keptDays);
    const left = await readCounts(environment.db, 'minute', daysAgo(40), Date.now(), { kind: 'call' });
    expect(left.filter(({ route }) => route === '/old').map(({ at }) => at)).toEqual([daysAgo(9)]);
  });

  it('is found by free text, whatever characters that has', async () => {
    const { body } = await test.app('GET', '/data/huts?filter=100%25_of%20%3D%201', { key: app.dev.serverKey });
    await find(`id = '${body.request}'`);
    const search = async (text: string) =>
      (await test.owner.call(operations.telemetry.requests, { params: app.dev.params, query: { text } })).items.map(({ id }) => id);
    expect(await search('100%25_OF')).toContain(body.request);
    for (const text of ["100%25' OR 1", '.*', '100_25', '\\']) expect(await search(text), text).not.toContain(body.request);
  });

  it('leaves as HAR 1.2', async () => {
    const { body } = await refuse({ bunks: 'many' });
    await find(`id = '${body.request}'`);
    const query = { filter: `id = '${body.request}'` };
    const reply = await test.owner.open(operations.telemetry.har, { params: app.dev.params, query });
    const { log } = (await reply.json()) as { log: { version: string; entries: { request: { url: string }; comment: string }[] } };
    expect(log.version).toBe('1.2');
    expect(log.entries).toHaveLength(1);
    expect(log.entries[0]).toMatchObject({ comment: body.request, request: { url: `${test.address}/app/v1/data/huts` } });
  });
});

it('refused and failed calls are counted by problem, with what is new', async () => {
  await test.app('GET', '/data/huts?filter=nowhere%20%3D%201', { key: app.dev.serverKey });
  const filter = await eventually(async () => {
    const { items } = await test.owner.call(operations.telemetry.problems, { params: app.dev.params });
    return items.find(({ problem }) => problem === 'malformed-filter');
  });
  expect(filter).toMatchObject({ failed: false, before: 0, isNew: true, title: 'The filter cannot be read' });
  expect(filter.routes[0]).toMatchObject({ method: 'GET', route: '/app/v1/data/{collection}' });
  expect(filter.routes.reduce((sum, { calls }) => sum + calls, 0)).toBe(filter.calls);
});

it('searches are saved for the team, replaced by name, and removed', async () => {
  const { params } = app.dev;
  const save = (query: string) =>
    test.owner.call(operations.telemetry.saveSearch, { params, body: { list: 'requests', name: 'Slow huts', query } });
  await save('filter=durationMs > 100');
  const saved = await save('filter=durationMs > 200');
  const list = async () => (await test.owner.call(operations.telemetry.searches, { params })).items;
  expect(await list()).toMatchObject([{ name: 'Slow huts', query: 'filter=durationMs > 200', by: { name: 'Mira Quill' } }]);
  await test.owner.call(operations.telemetry.removeSearch, { params: { ...params, search: saved.id } });
  expect(await list()).toEqual([]);
});

it('sums by time and route agree with the list of requests', async () => {
  const count = async () => {
    const usage = await test.owner.call(operations.telemetry.usage, { params: app.dev.params });
    const { items } = await test.owner.call(operations.telemetry.requests, { params: app.dev.params, query: { limit: 1000 } });
    return { usage, items };
  };
  const { usage, items } = await eventually(async () => {
    const found = await count();
    return found.usage.total.calls === found.items.length && found;
  });
  expect(usage.total.clientErrors).toBe(items.filter(({ status }) => status >= 400 && status < 500).length);
  expect(usage.routes.reduce((sum, { calls }) => sum + calls, 0)).toBe(items.length);
  expect(usage.total.p50Ms).toBeLessThanOrEqual(usage.total.p99Ms as number);
});

it('tells collections apart, and compares with the period before', async () => {
  const { params } = app.dev;
  const { db } = await test.service.parts.directory.environment(app.name, 'dev');
  const now = Math.floor(test.service.parts.now() / 60_000) * 60_000;
  const count = (at: number, target: string, calls: number, bucket: number) => ({
    at,
    kind: 'call' as const,
    method: 'GET',
    route: '/app/v1/data/{collection}',
    target,
    client: 'before',
    status: 200,
    problem: '',
    calls,
    sumUs: 0,
    histogram: new Map([[bucket, calls]]),
  });
  await insertCounts(db, 'minute', 'test', [
    count(now - 10 * 60_000, 'huts', 30, 90),
    count(now - 10 * 60_000, 'trails', 10, 60),
    count(now - 70 * 60_000, 'huts', 20, 60),
  ]);
  const query = {
    from: new Date(now - 60 * 60_000).toISOString(),
    until: new Date(now).toISOString(),
    client: 'before',
    compare: 'previous' as const,
  };
  const usage = await test.owner.call(operations.telemetry.usage, { params, query });
  expect(usage.routes.map(({ target, calls }) => [target, calls])).toEqual([
    ['huts', 30],
    ['trails', 10],
  ]);
  expect(usage.previous?.total.calls).toBe(20);
  const [huts, trails] = usage.routes;
  expect(huts?.p95Ms).toBeGreaterThan((huts?.beforeP95Ms as number) * 10);
  expect(trails?.beforeP95Ms).toBeNull();
});

it('splits calls by client, status, version and country: the largest apart, the rest as one', async () => {
  const { params } = app.live;
  const register = (device: string, country: string) =>
    test.app('PUT', `/devices/${device}`, {
      key: app.live.clientKey,
      body: {
        platform: 'ios',
        appVersion: '3.1.0',
        os: 'iOS 19',
        locale: 'nb-NO',
        timeZone: 'Europe/Oslo',
        permission: 'unasked',
        country,
      },
    });
  await register('split-device-1', 'NO');
  await register('split-device-2', 'SE');
  const call = (device: string | null, version: string, path = '/data/huts') =>
    test.app('GET', path, {
      key: app.live.clientKey,
      headers: { ...(device ? { 'orchard-device': device } : {}), 'user-agent': `QuillfellHiker/${version} (Android 16)` },
    });
  for (const version of ['3.1.0', '3.1.0', '3.2.0']) await call('split-device-1', version);
  await call('split-device-2', '3.2.0');
  for (let n = 0; n < 5; n++) await call(null, `3.${n + 3}.0`);
  const split = async (by: UsageSplit) => await test.owner.call(operations.telemetry.usage, { params, query: { by } });
  const counts = ({ parts = [] }: Usage) => Object.fromEntries(parts.map(({ name, others, calls }) => [others ? 'others' : name, calls]));
  const versions = await eventually(async () => {
    const usage = await split('version');
    return usage.total.calls >= 11 && usage;
  });
  expect(counts(versions)).toMatchObject({ '3.1.0': 2, '3.2.0': 2 });
  expect(versions.parts).toHaveLength(5);
  expect(versions.parts?.reduce((sum, { calls }) => sum + calls, 0)).toBe(versions.total.calls);
  expect(versions.parts?.[4]).toMatchObject({ others: true });
  expect(counts(await split('country'))).toMatchObject({ NO: 3, SE: 1 });
  expect(counts(await split('client'))).toMatchObject({ 'hiker-ios': versions.total.calls });
  const { parts: statuses = [], total } = await split('status');
  expect(statuses.find(({ name }) => name === '404')?.clientErrors).toBe(total.clientErrors);
  const step = versions.parts?.flatMap(({ steps }) => steps).reduce((sum, { calls }) => sum + calls, 0);
  expect(step).toBe(versions.total.calls);
  await expect(
    test.owner.call(operations.telemetry.usage, { params, query: { by: 'version', route: '/app/v1/data/{collection}' } }),
  ).rejects.toMatchObject({ problem: 'invalid-input', extras: { fields: [{ path: 'query.by' }] } });
});

it('refuses a stretch of time that ends before it begins', async () => {
  await expect(
    test.owner.call(operations.telemetry.usage, {
      params: app.dev.params,
      query: { from: '2026-02-02T00:00:00.000Z', until: '2026-02-01T00:00:00.000Z' },
    }),
  ).rejects.toMatchObject({ status: 422 });
});

it('answers OpenMetrics to the machine itself', async () => {
  const reply = await fetch(`${test.address}/metrics`);
  const text = await reply.text();
  expect(reply.headers.get('content-type')).toContain('application/openmetrics-text; version=1.0.0');
  expect(text).toMatch(/# TYPE orchard_calls counter\n/);
  expect(text).toMatch(
    /orchard_calls_total\{app="quillfell-hiker",environment="dev",method="POST",route="\/app\/v1\/users",status="201"\} 1/,
  );
  expect(text.endsWith('# EOF\n')).toBe(true);
});

it('describes every operation in one OpenAPI 3.1 document, with who may call and what can go wrong', async () => {
  const document = (await (await fetch(`${test.address}/openapi.json`)).json()) as {
    openapi: string;
    paths: Record<string, Record<string, { operationId: string; responses: object; parameters: { name: string }[] }>>;
  };
  expect(document.openapi).toBe('3.1.0');
  const ids = Object.values(document.paths).flatMap((path) => Object.values(path).map(({ operationId }) => operationId));
  expect(ids.sort()).toEqual(allOperations.map(({ id }) => id).sort());
  expect(document.paths['/app/v1/data/{collection}/{id}']?.patch?.responses).toHaveProperty('412');
  expect(document.paths['/app/v1/data/{collection}']?.get?.parameters.map(({ name }) => name)).toEqual([
    'collection',
    'filter',
    'sort',
    'limit',
    'cursor',
    'fields',
    'include',
    'count',
    'excerpts',
  ]);
});

it('tells open pages that records, deliveries, requests and devices changed', async () => {
  const { token } = (await (
    await fetch(`${test.address}/manage/v1/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ email: 'mira@quillfell.example', password: 'orchard-in-bloom', as: 'token' }),
    })
  ).json()) as { token: string };
  const abort = new AbortController();
  const reply = await fetch(`${test.address}/manage/v1/apps/${app.name}/environments/dev/changes`, {
    headers: { authorization: `Bearer ${token}` },
    signal: abort.signal,
  });
  const reader = reply.body?.pipeThrough(new TextDecoderStream()).getReader();
  const next = async () => JSON.parse(/data: (.*)\n/.exec((await reader?.read())?.value ?? '')?.[1] ?? '{}');
  const before = await next();
  await test.app('POST', '/data/huts', { key: app.dev.clientKey, token: runa.token, body: { bunks: 4 } });
  const after = await eventually(async () => {
    const marks = await next();
    return marks.records > before.records && marks;
  });
  expect(after.records).toBe(before.records + 1);
  abort.abort();
});

describe('bad bodies', () => {
  const post = (body: string, headers: Record<string, string> = {}) =>
    test.app('POST', '/data/huts', { key: app.dev.clientKey, token: runa.token, body, headers });
  it.each([
    ['cut short', '{"name": ', {}, 400, 'malformed-json'],
    ['empty', '', {}, 422, 'invalid-input'],
    ['no object', '[1]', {}, 422, 'invalid-input'],
    ['a number', '3', {}, 422, 'invalid-input'],
    ['over 1 MB', JSON.stringify({ text: 'x'.repeat(1_000_001) }), {}, 413, 'body-too-large'],
    ['of another type', 'a=1', { 'content-type': 'application/x-www-form-urlencoded' }, 415, 'unsupported-media-type'],
    ['in another charset', '{}', { 'content-type': 'application/json; charset=iso-8859-1' }, 415, 'unsupported-media-type'],
    ['nested 100,000 deep', `{"a":${'['.repeat(100_000)}${']'.repeat(100_000)}}`, {}, 422, 'invalid-input'],
  ])('%s: answered with a problem document', async (_name, body, headers, status, name) => {
    const answer = await post(body, headers as Record<string, string>);
    expect(answer).toMatchObject({
      status,
      body: { type: `/docs/problems/${name}`, status, title: expect.any(String), request: expect.any(String) },
    });
    expect(answer.headers.get('content-type')).toContain('application/problem+json');
  });

  it('an address with a broken percent-encoding is answered 422', async () => {
    const status = await new Promise((resolve) =>
      httpRequest(`${test.address}/app/v1/data/%E0%A4%A`, { headers: { 'orchard-key': app.dev.clientKey } }, (reply) =>
        resolve(reply.statusCode),
      ).end(),
    );
    expect(status).toBe(422);
  });
});

it('serves pages under a strict content security policy', async () => {
  const reply = await fetch(`${test.address}/`);
  const policy = reply.headers.get('content-security-policy') as string;
  expect(policy).toContain("script-src 'self'");
  expect(policy).not.toContain('unsafe');
  expect(await reply.text()).toContain(/'nonce-([^']+)'/.exec(policy)?.[1]);
  expect((await fetch(`${test.address}/docs/problems/version-conflict`)).status).toBe(200);
});
