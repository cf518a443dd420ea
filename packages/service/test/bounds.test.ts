/** What answers, statements and jobs may take, and what becomes of more. */
import { request as httpRequest } from 'node:http';
import { connect } from 'node:net';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { isTooSlow } from '../src/platform/database/errors.js';
import { MOST_ATTEMPTS } from '../src/platform/jobs/queue.js';
import { jobTable } from '../src/platform/jobs/tables.js';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
});
afterAll(() => test.stop());
const trusted = () => ({ key: app.dev.serverKey });
const MANAGED = '/manage/v1/apps/quillfell-hiker/environments/dev';

describe('an answer', () => {
  const LARGE = 'x'.repeat(990_000);
  beforeAll(async () => {
    await test.app('PUT', '/data/huts/large', { ...trusted(), body: { name: LARGE } });
    await test.owner.call(operations.collections.create, {
      params: app.dev.params,
      body: { name: 'visits', fields: [{ name: 'hut', type: 'reference', to: 'huts' }] },
    });
    const actions = Array.from({ length: 100 }, (_, i) => ({ action: 'create', record: { id: `v${i}`, hut: 'large' } }));
    await test.app('POST', '/data/visits/batch', { ...trusted(), body: { actions } });
    for (let i = 0; i < 60; i++) await test.app('PUT', `/data/scans/s${i}`, { ...trusted(), body: { picture: LARGE } });
  });

  it.each([
    ['a record that a hundred others bring along', '/data/visits?limit=100&include=hut'],
    ['sixty records of a megabyte', '/data/scans?limit=100'],
  ])('of over 32 MB is refused before its first byte: %s', async (_what, path) => {
    const refused = await test.app('GET', path, trusted());
    expect(refused).toMatchObject({
      status: 422,
      body: { type: '/docs/problems/answer-too-large', detail: expect.stringContaining('`limit`') },
    });
    expect((await test.app('GET', path.replace('limit=100', 'limit=20'), trusted())).status).toBe(200);
  });

  it('of any size comes by export, and all versions of a large record page by page', async () => {
    const reply = await fetch(`${test.address}${MANAGED}/collections/scans/export?format=ndjson`, {
      headers: { authorization: await bearer() },
    });
    const text = await reply.text();
    expect([reply.status, text.split('\n').length - 1]).toEqual([200, 60]);
    for (let i = 0; i < 25; i++) await test.app('PATCH', '/data/huts/large', { ...trusted(), body: { name: `${i}${LARGE}` } });
    const versions: number[] = [];
    for (let before = ''; versions.length < 26; ) {
      const { status, body } = await test.app('GET', `/history/huts/large${before}`, trusted());
      expect(status).toBe(200);
      versions.push(...body.items.map(({ version }: { version: number }) => version));
      if (!body.more) break;
      before = `?before=${body.items.at(-1).entry}`;
    }
    expect(versions).toEqual(Array.from({ length: 26 }, (_, i) => 26 - i));
  });

  it('that nobody reads counts, until the caller is told to read those first', async () => {
    const open = () =>
      new Promise<number>((resolve, reject) => {
        const asking = httpRequest(
          `${test.address}/app/v1/data/scans?limit=25`,
          { headers: { 'orchard-key': app.dev.serverKey } },
          (reply) => {
            reply.pause();
            unread.push(() => reply.destroy());
            resolve(reply.statusCode ?? 0);
          },
        );
        asking.on('error', reject).end();
      });
    const unread: (() => void)[] = [];
    const statuses: number[] = [];
    for (let i = 0; i < 8 && statuses.at(-1) !== 503; i++) statuses.push(await open());
    expect(statuses.slice(0, 3)).toEqual([200, 200, 200]);
    expect(statuses.at(-1)).toBe(503);
    const other = await test.app('GET', '/data/scans?limit=2', { key: app.dev.serverKey });
    expect(other.status, 'a small answer has room').toBe(200);
    for (const close of unread) close();
    await eventually(() => test.service.parts.answers.held === 0);
    expect((await test.app('GET', '/data/scans?limit=25', trusted())).status).toBe(200);
  });
});

const bearer = async () => {
  const reply = await fetch(`${test.address}/manage/v1/session`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ email: 'mira@quillfell.example', password: 'orchard-in-bloom', as: 'token' }),
  });
  return `Bearer ${((await reply.json()) as { token: string }).token}`;
};

describe('a file with 100,000 columns', () => {
  it('is refused before any statement, and keeps no schema change waiting', async () => {
    const header = Array.from({ length: 100_000 }, (_, i) => `c${i}`).join(',');
    const reply = await fetch(`${test.address}${MANAGED}/collections/wide/import?format=csv`, {
      method: 'POST',
      headers: { 'content-type': 'text/csv', authorization: await bearer() },
      body: `${header}\n${Array.from({ length: 100_000 }, () => '1').join(',')}\n`,
    });
    expect([reply.status, ((await reply.json()) as { detail: string }).detail]).toEqual([422, expect.stringContaining('100,000 columns')]);
    expect((await test.app('POST', '/data/narrow', { ...trusted(), body: { name: 'x' } })).status).toBe(201);
  });
});

describe('a schema change', () => {
  it('that has to wait too long for another is a 503 with Retry-After', async () => {
    const environment = await test.service.parts.directory.environment('quillfell-hiker', 'dev');
    let release = () => {};
    const held = new Promise<void>((resolve) => {
      release = resolve;
    });
    let locked = () => {};
    const leaseIsHeld = new Promise<void>((resolve) => {
      locked = resolve;
    });
    const holding = environment.db.withLease('schema', () => {
      locked();
      return held;
    });
    await leaseIsHeld;
    const refused = await test.app('POST', '/data/narrow', { ...trusted(), body: { another: 1 } });
    release();
    await holding;
    expect(refused).toMatchObject({ status: 503, body: { type: '/docs/problems/busy' } });
    expect(refused.headers.get('retry-after')).toBe('5');
  });
});

describe('a statement', () => {
  it('that takes too long is ended and told as that', async () => {
    const { database } = test.service.parts;
    await expect(database.run('SET STATEMENT max_statement_time = 0.2 FOR SELECT SLEEP(5)')).rejects.toSatisfy(isTooSlow);
    const [row] = await database.runRows<{ limit: number }>('SELECT @@max_statement_time AS `limit`');
    expect(Number(row?.limit)).toBe(30);
  });

  it('is prepared no more often than the server has room for, and goes as text beyond that', async () => {
    const { database } = test.service.parts;
    const [before] = await database.runRows<{ most: number }>('SELECT @@GLOBAL.max_prepared_stmt_count AS most');
    const used = async () => Number((await database.runRows<{ Value: string }>("SHOW GLOBAL STATUS LIKE 'Prepared_stmt_count'"))[0]?.Value);
    try {
      await database.run(`SET GLOBAL max_prepared_stmt_count = ${await used()}`);
      for (let i = 0; i < 30; i++) expect(await database.rows(`SELECT ? + ${i} AS n`, [1])).toEqual([{ n: 1 + i }]);
    } finally {
      await database.run(`SET GLOBAL max_prepared_stmt_count = ${before?.most}`);
    }
    const metrics = await (await fetch(`${test.address}/metrics`)).text();
    expect(metrics).toMatch(/orchard_database_statements\{of="prepared"\} \d+/);
  });
});

describe('a job', () => {
  it('that fails is tried again later each time, given up in the end, and stays with its error to be retried or dropped', async () => {
    const { jobs, directory } = test.service.parts;
    const environment = await directory.environment('quillfell-hiker', 'dev');
    let fails = true;
    let done = 0;
    jobs.on('test-kind', {
      work: async () => {
        if (fails) throw new Error('the bridge is out');
        done++;
        return null;
      },
    });
    const { db } = environment;
    await jobs.add(db, environment, 'test-kind', 'bridge');
    void jobs.wake(environment);
    const { params } = app.dev;
    const shown = async () => (await test.owner.call(operations.jobs.list, { params, query: { filter: "kind = 'test-kind'" } })).items[0];
    await eventually(async () => (await shown())?.attempts === 1);
    expect(await shown()).toMatchObject({ state: 'failing', lastError: 'the bridge is out', subject: 'bridge' });
    await db.run(`UPDATE ${db.of(jobTable)} SET attempts = ? WHERE kind = ?`, [MOST_ATTEMPTS - 1, 'test-kind']);
    await jobs.hasten(environment, 'test-kind');
    const given = await eventually(async () => (await shown())?.state === 'given-up' && (await shown()));
    expect(given).toMatchObject({ attempts: MOST_ATTEMPTS });
    const { items } = await test.owner.call(operations.notices.list, {});
    expect(items[0]).toMatchObject({ title: 'A job was given up: test-kind', body: expect.stringContaining('the bridge is out') });
    fails = false;
    await test.owner.call(operations.jobs.retry, { params: { ...params, job: given.id } });
    await eventually(() => done === 1);
    await eventually(async () => (await shown()) === undefined);
    await expect(test.owner.call(operations.jobs.drop, { params: { ...params, job: given.id } })).rejects.toMatchObject({
      problem: 'not-found',
    });
  });

  it('of a kind that this instance does not know stays for one that does', async () => {
    const { jobs, directory } = test.service.parts;
    const environment = await directory.environment('quillfell-hiker', 'dev');
    await jobs.add(environment.db, environment, 'of-a-newer-version', 'x');
    await jobs.wake(environment);
    await new Promise((resolve) => setTimeout(resolve, 1_200));
    const { items } = await test.owner.call(operations.jobs.list, { params: app.dev.params, query: {} });
    expect(items).toMatchObject([{ kind: 'of-a-newer-version', state: 'waiting', attempts: 0 }]);
    await test.owner.call(operations.jobs.drop, { params: { ...app.dev.params, job: items[0]?.id as string } });
  });

  it('is not made by a channel message whose notification could never be sent', async () => {
    const runa = await signUp(test, app.dev.clientKey, 'runa');
    const publish = (title: string) =>
      test.app('POST', '/channels/ridge/messages', {
        key: app.dev.clientKey,
        token: runa.token,
        body: { data: { a: 1 }, notify: { title } },
      });
    const refused = await publish('{');
    expect(refused).toMatchObject({ status: 422, body: { fields: [{ path: 'body.notify.title' }] } });
    expect((await test.app('GET', '/channels/ridge/messages', { key: app.dev.clientKey, token: runa.token })).body.items).toEqual([]);
    expect((await publish('Storm')).status).toBe(201);
  });
});

describe('a version', () => {
  it('never goes back: a record that comes back after its deletion goes on from its last one', async () => {
    const put = (body: object, headers = {}) => test.app('PUT', '/data/huts/skarn', { ...trusted(), body, headers });
    await put({ name: 'Skarn' });
    const old = await put({ name: 'Skarn 2' });
    await test.app('DELETE', '/data/huts/skarn', trusted());
    const { body: history } = await test.app('GET', '/history/huts/skarn', trusted());
    const back = await test.app('POST', '/history/huts/skarn', { ...trusted(), body: { entry: history.items[1].entry } });
    expect([old.body.version, back.body.version]).toEqual([2, 4]);
    for (const stale of ['"1"', '"2"', '"3"']) expect((await put({ name: 'stale' }, { 'if-match': stale })).status).toBe(412);
    await test.app('DELETE', '/data/huts/skarn', trusted());
    expect((await test.app('POST', '/data/huts', { ...trusted(), body: { id: 'skarn' } })).body.version).toBe(6);
    await test.app('DELETE', '/data/huts/skarn', trusted());
    const batch = await test.app('POST', '/data/huts/batch', {
      ...trusted(),
      body: {
        actions: [
          { action: 'create', record: { id: 'skarn' } },
          { action: 'create', record: {} },
        ],
      },
    });
    expect(batch.body.results.map(({ version }: { version: number }) => version)).toEqual([8, 1]);
  });
});

describe('HTTP', () => {
  it('answers a method that an address does not take with 405 and those it takes', async () => {
    const refused = await test.app('PUT', '/data/huts', trusted());
    expect(refused).toMatchObject({ status: 405, body: { type: '/docs/problems/method-not-allowed' } });
    expect(refused.headers.get('allow')).toBe('GET, POST, HEAD');
    expect((await test.app('PUT', '/nowhere', trusted())).status).toBe(404);
  });

  it('answers HEAD where GET is, without a body, and opens no stream for it', async () => {
    for (const path of ['/data/huts', '/data/huts/skarn', '/live/huts']) {
      const { status, text } = await test.app('HEAD', path, trusted());
      expect([status, text]).toEqual([200, '']);
    }
  });

  it.each([
    ['Basic eDp5', 'scheme Basic'],
    ['abc.def.ghi', 'without a scheme'],
  ])('says of `Authorization: %s` what is expected', async (authorization, words) => {
    for (const path of ['/app/v1/data/huts', `${MANAGED}/users`]) {
      const reply = await fetch(test.address + path, { headers: { 'orchard-key': app.dev.clientKey, authorization } });
      expect([reply.status, ((await reply.json()) as { detail: string }).detail]).toEqual([401, expect.stringContaining(words)]);
    }
  });

  it('answers an address that is too long with a problem that says how to ask instead', async () => {
    const reply = await fetch(`${test.address}/app/v1/data/huts?filter=${'x'.repeat(20_000)}`, {
      headers: { 'orchard-key': app.dev.clientKey },
    });
    expect([reply.status, reply.headers.get('content-type')]).toEqual([431, 'application/problem+json; charset=utf-8']);
    expect(((await reply.json()) as { detail: string }).detail).toContain('POST /app/v1/queries/{collection}');
  });

  it('serves the next call on a connection after one whose body it refused unread', async () => {
    const { hostname, port } = new URL(test.address);
    const socket = connect(Number(port), hostname);
    let heard = '';
    socket.on('data', (chunk) => {
      heard += chunk;
    });
    const call = (path: string, body: string, headers = '') =>
      socket.write(
        `POST ${path} HTTP/1.1\r\nHost: x\r\nOrchard-Key: ${app.dev.serverKey}\r\nContent-Type: application/json\r\n${headers}Content-Length: ${body.length}\r\n\r\n${body}`,
      );
    call('/app/v1/data/huts', 'x'.repeat(300_000), 'Content-Encoding: gzip\r\n');
    call('/app/v1/data/huts', 'x'.repeat(1_500_000));
    call('/app/v1/data/huts', '{"name":"after"}');
    await eventually(() => heard.includes('201 Created'), 5_000);
    expect(heard.match(/HTTP\/1\.1 \d+/g)).toEqual(['HTTP/1.1 400', 'HTTP/1.1 413', 'HTTP/1.1 201']);
    socket.destroy();
  });
});
