/** Tables of other servers, MariaDB and PostgreSQL, shown as collections. */
import { randomUUID } from 'node:crypto';
import { type OutsideDefinition, operations, type Problem } from '@orchard/contract';
import { type PostgresqlServer, startPostgresql } from '@orchard/simulators';
import { createPool, type Pool } from 'mysql2/promise';
import pg from 'pg';
import { setTimeout as sleep } from 'node:timers/promises';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { scratchDirectory } from './scratch.js';
import { LOOK_MS } from '../src/data/outside/following.js';
import { freePort } from './ports.js';
import { eventually, listenTo, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: { id: string; token: string };
let postgresql: PostgresqlServer;
let mariadb: Pool;
let postgres: pg.Pool;
const own = operations.outside;
const database = `outside_${process.pid}`;
const KINDS = ['mariadb', 'postgresql'] as const;
type Kind = (typeof KINDS)[number];

const MARIADB = [
  `CREATE TABLE members (member_no INT PRIMARY KEY AUTO_INCREMENT, name VARCHAR(100) COLLATE utf8mb4_bin, region VARCHAR(20) COLLATE utf8mb4_bin, born DATE, paid BOOLEAN, fee DECIMAL(8,2),
     seen DATETIME(3), tags JSON, account VARCHAR(64), rev INT NOT NULL DEFAULT 1, photo BLOB, changed TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3) ON UPDATE CURRENT_TIMESTAMP(3), INDEX (region), INDEX (changed)) DEFAULT CHARSET utf8mb4`,
  "CREATE VIEW northern AS SELECT member_no, name FROM members WHERE region = 'north'",
  'CREATE TABLE keyless (a INT, b TEXT)',
];
const POSTGRESQL = [
  `CREATE TABLE members (member_no SERIAL PRIMARY KEY, name TEXT, region TEXT, born DATE, paid BOOLEAN, fee NUMERIC(8,2), seen TIMESTAMPTZ, tags JSONB, account UUID, rev INT NOT NULL DEFAULT 1, photo BYTEA,
     changed TIMESTAMPTZ NOT NULL DEFAULT now())`,
  'CREATE INDEX ON members (region)',
  'CREATE INDEX ON members (changed)',
  'CREATE FUNCTION touch() RETURNS trigger AS $$ BEGIN NEW.changed = clock_timestamp(); RETURN NEW; END $$ LANGUAGE plpgsql',
  'CREATE TRIGGER touched BEFORE UPDATE ON members FOR EACH ROW EXECUTE FUNCTION touch()',
  "CREATE VIEW northern AS SELECT member_no, name FROM members WHERE region = 'north'",
  'CREATE TABLE keyless (a INT, b TEXT)',
];
const run = async (kind: Kind, sql: string): Promise<void> => {
  await (kind === 'mariadb' ? mariadb.query(sql) : postgres.query(sql));
};

beforeAll(async () => {
  const port = await freePort();
  const url = new URL(inject('databaseUrl'));
  const home = scratchDirectory('postgresql');
  postgresql = await startPostgresql(home, port, 'larch');
  test = await startTestService(inject('databaseUrl'), ({ address }) => ({
    pushOrigins: [address, `mariadb://127.0.0.1:${url.port}`, `postgresql://127.0.0.1:${port}`, 'postgresql://127.0.0.1:1'],
  }));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  const access = { host: url.hostname, port: Number(url.port), user: url.username, password: decodeURIComponent(url.password) };
  mariadb = createPool({ ...access, timezone: 'Z', multipleStatements: true });
  await mariadb.query(`CREATE DATABASE ${database} CHARACTER SET utf8mb4`);
  await mariadb.end();
  mariadb = createPool({ ...access, database, timezone: 'Z' });
  postgres = new pg.Pool({ host: '127.0.0.1', port, user: 'postgres', password: 'larch', database: 'postgres' });
  // Connections that are idle end with the server.
  postgres.on('error', () => undefined);
  for (const sql of MARIADB) await run('mariadb', sql);
  for (const sql of POSTGRESQL) await run('postgresql', sql);
  for (const kind of KINDS)
    for (const [name, region, born, paid, fee] of [
      ['Alva', 'north', '1990-02-03', true, '42.50'],
      ['Bo', 'south', '1985-12-31', false, '0'],
      ['Cato', null, null, null, null],
      ['Ås', 'north', '2001-07-14', true, '10'],
    ] as const)
      await run(
        kind,
        `INSERT INTO members (name, region, born, paid, fee, seen, tags, account) VALUES ('${name}', ${region ? `'${region}'` : 'NULL'}, ${born ? `'${born}'` : 'NULL'}, ${paid}, ${fee}, '2026-07-14 06:00:00', '["ridge"]', '${runa.id}')`,
      );
  const server = (name: string, more: object) => ({ params: app.dev.params, body: { name, tls: false, ...more } as never });
  await test.owner.call(own.addServer, server('association', { kind: 'mariadb', ...access, host: '127.0.0.1', database }));
  await test.owner.call(
    own.addServer,
    server('registry', { kind: 'postgresql', host: '127.0.0.1', port, user: 'postgres', password: 'larch', database: 'postgres' }),
  );
});
afterAll(async () => {
  await test.stop();
  await mariadb.query(`DROP DATABASE ${database}`);
  await mariadb.end();
  await postgres.end();
  await postgresql.stop();
  postgresql.forget();
});

const SERVER: Record<Kind, string> = { mariadb: 'association', postgresql: 'registry' };
const TABLE: Record<Kind, string> = { mariadb: 'members', postgresql: 'public.members' };
const put = (collection: string, body: Partial<OutsideDefinition> & object) =>
  test.owner.call(own.addTable, { params: { ...app.dev.params, collection }, body: body as never });
const show = (kind: Kind, name: string, more: object = {}) =>
  put(name, { server: SERVER[kind], table: TABLE[kind], key: 'member_no', writable: true, ...more } as never);
const call = (method: string, path: string, body?: object, who: object = { key: app.dev.serverKey }) =>
  test.app(method, path, { ...who, ...(body ? { body } : {}) });
const asRuna = () => ({ key: app.dev.clientKey, token: runa.token });
const query = (values: Record<string, string>) => `?${new URLSearchParams(values)}`;
const ids = async (name: string, values: Record<string, string>, who?: object): Promise<string[]> => {
  const { body } = await call('GET', `/data/${name}${query(values)}`, undefined, who);
  return body.items?.map(({ id }: { id: string }) => id) ?? body.detail;
};

describe('a server of somebody else', () => {
  it.each(KINDS)('%s is checked, and says what it shows', async (kind) => {
    const at = { params: { ...app.dev.params, server: SERVER[kind] } };
    expect(await test.owner.call(own.checkServer, at)).toMatchObject({ ok: true, steps: [{ what: 'connection' }, { what: 'tables' }] });
    const { items } = await test.owner.call(own.seen, at);
    const members = items.find(({ table }) => table === TABLE[kind]);
    expect(members?.columns.map(({ column, as, unique, indexed }) => [column, as, unique, indexed]).slice(0, 7)).toEqual([
      ['member_no', 'integer', true, true],
      ['name', 'text', false, false],
      ['region', 'text', false, true],
      ['born', 'date', false, false],
      ['paid', 'boolean', false, false],
      ['fee', 'number', false, false],
      ['seen', 'time', false, false],
    ]);
    expect(members?.columns.find(({ column }) => column === 'photo')?.as).toBeNull();
    expect(items.find(({ table }) => table.endsWith('northern'))?.view).toBe(true);
    expect(JSON.stringify(await test.owner.call(own.servers, { params: app.dev.params }))).not.toContain('larch');
  });

  it('that is away, forbids it, or stands on a private network unnamed, is told by what is wrong', async () => {
    const add = (name: string, more: object) =>
      test.owner.call(own.addServer, {
        params: app.dev.params,
        body: { name, kind: 'postgresql', host: '127.0.0.1', port: 1, database: 'x', user: 'x', password: 'x', ...more } as never,
      });
    await add('away', {});
    const away = await test.owner.call(own.checkServer, { params: { ...app.dev.params, server: 'away' } });
    expect(away).toMatchObject({ ok: false, steps: [{ text: expect.stringContaining('cannot be reached') }] });
    await add('wrong', { port: postgresql.port, user: 'postgres', password: 'birch', database: 'postgres' });
    const wrong = await test.owner.call(own.checkServer, { params: { ...app.dev.params, server: 'wrong' } });
    expect(wrong.steps[0]?.text).toContain('does not allow this');
    await expect(add('hidden', { port: 5433 })).rejects.toMatchObject({ detail: expect.stringContaining('on a private network') });
    await expect(test.owner.call(own.removeServer, { params: { ...app.dev.params, server: 'nobody' } })).rejects.toMatchObject({
      problem: 'not-found',
    });
  });
});

describe.each(KINDS)('a table of %s', (kind) => {
  const name = `members_${kind}`;
  beforeAll(async () => {
    await show(kind, name, { version: 'rev', changes: 'changed' });
  });

  it('is a collection among the others, with what it cannot do', async () => {
    const { items } = await test.owner.call(operations.collections.list, { params: app.dev.params });
    const shown = items.find((one) => one.name === name);
    expect(shown?.fields.map((field) => [field.name, field.type])).toEqual([
      ['name', 'text'],
      ['region', 'text'],
      ['born', 'date'],
      ['paid', 'boolean'],
      ['fee', 'number'],
      ['seen', 'time'],
      ['tags', 'object'],
      ['account', 'text'],
      ['changed', 'time'],
    ]);
    expect(shown?.outside).toMatchObject({
      table: TABLE[kind],
      key: 'member_no',
      writable: true,
      cannot: expect.arrayContaining([expect.stringContaining('history')]),
    });
  });

  it('is read, filtered, sorted, paged and counted by the SQL of its server', async () => {
    const { body } = await call('GET', `/data/${name}/1`);
    expect(body).toMatchObject({
      id: '1',
      version: 1,
      name: 'Alva',
      born: '1990-02-03',
      paid: true,
      fee: 42.5,
      seen: '2026-07-14T06:00:00.000Z',
    });
    expect(await ids(name, { filter: "region = 'north'", sort: '-born' })).toEqual(['4', '1']);
    expect(await ids(name, { filter: "born < DATE('1990-01-01') OR paid IS NULL" })).toEqual(['2', '3']);
    expect(await ids(name, { filter: 'fee * 2 > 80 AND paid = TRUE' })).toEqual(['1']);
    expect(await ids(name, { filter: 'fee / 0 = 1' })).toEqual([]);
    expect(await ids(name, { filter: "CASEI(name) = CASEI('ALVA') AND seen > TIMESTAMP('2026-07-14T05:59:59Z')" })).toEqual(['1']);
    expect(await ids(name, { filter: "name LIKE 'A%' AND NOT region IN ('south')" })).toEqual(['1']);
    expect(await ids(name, { filter: "id = '2'" })).toEqual(['2']);
    const pages: string[][] = [];
    for (let cursor = ''; ; ) {
      const page = (
        await call('GET', `/data/${name}${query({ sort: 'region', limit: '1', count: 'true', ...(cursor ? { cursor } : {}) })}`)
      ).body;
      pages.push(page.items.map(({ id }: { id: string }) => id));
      expect(page.count).toBe(4);
      cursor = page.next;
      if (!cursor) break;
    }
    // What has no value comes where that server sorts it.
    expect(pages.flat()).toEqual(kind === 'mariadb' ? ['3', '1', '4', '2'] : ['1', '4', '2', '3']);
    const summary = await call('GET', `/summaries/${name}${query({ group: 'region', measure: 'count,sum:fee,max:born' })}`);
    expect(summary.body.groups).toEqual(expect.arrayContaining([{ region: 'north', count: 2, 'sum:fee': 52.5, 'max:born': '2001-07-14' }]));
  });

  it('is written: created, replaced, changed, counted, and deleted over the version one has seen', async () => {
    const created = await call('POST', `/data/${name}`, { name: 'Dag', region: 'south', fee: 7 });
    expect([created.status, created.body]).toEqual([201, expect.objectContaining({ name: 'Dag', version: 1, paid: null })]);
    const at = `/data/${name}/${created.body.id}`;
    expect((await call('PATCH', at, { fee: 8.5, seen: '2026-08-01T10:00:00+02:00' })).body).toMatchObject({
      version: 2,
      fee: 8.5,
      seen: '2026-08-01T08:00:00.000Z',
    });
    const stale = await test.app('PATCH', at, { key: app.dev.serverKey, headers: { 'If-Match': '"1"' }, body: { fee: 1 } });
    expect(stale).toMatchObject({ status: 412, body: { currentVersion: 2 } });
    expect((await call('PATCH', at, { _add: { fee: 0.5 } })).body).toMatchObject({ version: 3, fee: 9 });
    expect((await call('PUT', at, { name: 'Dagny' })).body).toMatchObject({ version: 4, name: 'Dagny', region: null, fee: null });
    expect((await call('PATCH', at, { name: 5 })).status).toBe(422);
    expect((await call('PATCH', at, { nam: 'x' })).body.detail).toContain('has no field `nam`');
    expect((await call('DELETE', at)).status).toBe(204);
    expect((await call('GET', at)).status).toBe(404);
    expect((await call('GET', `/data/${name}/no-number`)).status).toBe(404);
  });

  it('is kept on devices: filled each time, and what they changed offline is written there', async () => {
    const pull = async (scope: object) => (await call('POST', '/sync/pull', { scopes: [{ collection: name, ...scope }] })).body;
    const filled = await pull({ filter: "region = 'north'" });
    expect(filled.scopes).toMatchObject([
      { outside: true, records: [{ id: '1' }, { id: '4' }], shape: { fields: { fee: 'number', born: 'date' } } },
    ]);
    expect((await pull({ at: filled.at, shape: filled.scopes[0].shape.name })).scopes).toEqual([]);
    const change = (fields: object) => ({
      id: randomUUID(),
      action: 'change',
      collection: name,
      record: '1',
      fields,
      seen: {},
      version: 1,
    });
    const body = { changes: [change({ fee: 43 }), { ...change({ fee: 'much' }), id: randomUUID() }] };
    const pushed = (await call('POST', '/sync/push', body)).body;
    expect(pushed.results.map(({ status }: { status: string }) => status)).toEqual(['taken', 'refused']);
    expect(pushed.records).toMatchObject([{ collection: name, record: { id: '1', fee: 43 } }]);
    await call('POST', '/sync/push', { changes: [change({ fee: 42.5 })] });
    expect((await call('POST', '/sync/push', body)).body.results[0].status).toBe('taken');
    expect((await call('GET', `/data/${name}/1`)).body.fee).toBe(42.5);
  });

  it('obeys its rules, the same in lists, reads and writes', async () => {
    const patch = (rules: object) =>
      test.owner.call(operations.collections.patch, { params: { ...app.dev.params, collection: name }, body: { rules } as never });
    expect((await call('GET', `/data/${name}`, undefined, asRuna())).status).toBe(403);
    await patch({ read: "region = 'north'", update: "paid = TRUE AND region = 'north'", create: "fee < 100 AND region = 'north'" });
    expect(await ids(name, {}, asRuna())).toEqual(['1', '4']);
    expect(await ids(name, { filter: "name LIKE 'B%'" }, asRuna())).toEqual([]);
    expect((await call('GET', `/data/${name}/1`, undefined, asRuna())).status).toBe(200);
    expect((await call('GET', `/data/${name}/2`, undefined, asRuna())).status).toBe(403);
    // An update must pass before and after; what does not is undone.
    expect((await call('PATCH', `/data/${name}/1`, { region: 'south' }, asRuna())).status).toBe(403);
    expect((await call('PATCH', `/data/${name}/1`, { name: 'Alva Lind' }, asRuna())).body.name).toBe('Alva Lind');
    expect((await call('POST', `/data/${name}`, { name: 'Eli', region: 'north', fee: 500 }, asRuna())).status).toBe(403);
    expect(await ids(name, { filter: "name = 'Eli'" })).toEqual([]);
    expect((await call('DELETE', `/data/${name}/1`, undefined, asRuna())).status).toBe(403);
    await expect(patch({ read: 'hutt = 1' })).rejects.toMatchObject({ problem: 'malformed-filter' });
    await expect(patch({ read: 'S_WITHIN(region, BBOX(1, 2, 3, 4))' })).rejects.toMatchObject({ problem: 'malformed-filter' });
  });

  it('says in its answers what it cannot do', async () => {
    const refused = async (method: string, path: string, body?: object) => {
      const answer = await call(method, path, body);
      expect([answer.status, answer.body.type]).toEqual([422, expect.stringContaining('outside-unsupported')]);
      return answer.body.detail;
    };
    expect(await refused('GET', `/data/${name}${query({ filter: "search('alva')" })}`)).toContain('no search index');
    expect(await refused('GET', `/data/${name}${query({ include: 'hut' })}`)).toContain('nothing can be included');
    expect(await refused('POST', `/data/${name}/batch`, { actions: [{ action: 'delete', id: '1' }] })).toContain('batches');
    const member = (operation: typeof operations.collections.addIndex, body: object) =>
      test.owner
        .call(operation, { params: { ...app.dev.params, collection: name }, body: body as never })
        .catch((error: Problem) => error.problem);
    expect(await member(operations.collections.addIndex, { fields: ['name'] })).toBe('outside-unsupported');
    const taken = test.owner.call(operations.collections.create, { params: app.dev.params, body: { name } });
    await expect(taken).rejects.toMatchObject({ problem: 'already-exists' });
  });

  it('tells live readers of what changed there, as far as they may see it', async () => {
    const stream = await listenTo(test.address, `${name}${query({ filter: "region = 'north'" })}`, asRuna());
    await stream.next('ready');
    await run(kind, "UPDATE members SET fee = 99 WHERE name = 'Bo'");
    await run(kind, 'UPDATE members SET fee = 11 WHERE member_no = 4');
    expect((await stream.next('entered')).data).toMatchObject({ record: { id: '4', fee: 11 } });
    await run(kind, "UPDATE members SET region = 'south' WHERE member_no = 4");
    expect((await stream.next('left')).data).toMatchObject({ id: '4' });
    await run(kind, "UPDATE members SET region = 'north', fee = 10 WHERE member_no = 4");
    stream.stop();
  });

  it('tells live readers of many changes at one instant, and of each once', async () => {
    const stream = await listenTo(test.address, `${name}${query({ filter: "name = 'Crowd'" })}`, asRuna());
    const many = kind === 'mariadb' ? 'seq_1_to_1200' : 'generate_series(1, 1200)';
    await run(kind, `INSERT INTO members (name, region) SELECT 'Crowd', 'north' FROM ${many} AS one`);
    await eventually(() => stream.of('entered').length >= 1_200);
    await sleep(2 * LOOK_MS);
    expect(stream.of('entered').length).toBe(1_200);
    expect(stream.of('changed')).toEqual([]);
    stream.stop();
    await run(kind, "DELETE FROM members WHERE name = 'Crowd'");
  });

  it('is told when a column went, changed its type, or has no index', async () => {
    await show(kind, `${name}_small`, {
      fields: [
        { name: 'who', column: 'name', type: 'text' },
        { name: 'fee', column: 'fee', type: 'number' },
      ],
    });
    const check = async () =>
      (await test.owner.call(own.checkTable, { params: { ...app.dev.params, collection: `${name}_small` } })).outside?.readiness ?? [];
    expect((await check()).every(({ ready }) => ready)).toBe(true);
    await run(
      kind,
      kind === 'mariadb' ? 'ALTER TABLE members CHANGE name full_name VARCHAR(100)' : 'ALTER TABLE members RENAME name TO full_name',
    );
    await run(kind, kind === 'mariadb' ? 'ALTER TABLE members MODIFY fee VARCHAR(20)' : 'ALTER TABLE members ALTER fee TYPE TEXT');
    expect(await call('GET', `/data/${name}_small`)).toMatchObject({
      status: 502,
      body: { type: expect.stringContaining('outside-changed') },
    });
    expect((await check()).filter(({ ready }) => !ready).map(({ text }) => text)).toEqual([
      'The column name of who is not there any more.',
      expect.stringContaining('fee is of type number, and its column fee is'),
    ]);
    await run(
      kind,
      kind === 'mariadb' ? 'ALTER TABLE members CHANGE full_name name VARCHAR(100)' : 'ALTER TABLE members RENAME full_name TO name',
    );
    await run(kind, "UPDATE members SET fee = 'much' WHERE name = 'Bo'");
    expect((await call('GET', `/data/${name}_small/2`)).body.detail).toContain(
      `\`fee\` of \`${name}_small\` is a field of type number, and its column holds "much"`,
    );
    const keyless = kind === 'mariadb' ? 'keyless' : 'public.keyless';
    const bare = await put(`bare_${kind}`, { server: SERVER[kind], table: keyless, key: 'a' } as never);
    expect(bare.outside?.readiness.find(({ what }) => what === 'key index')).toMatchObject({
      ready: false,
      text: expect.stringContaining('no unique index'),
    });
    expect((await call('POST', `/data/bare_${kind}`, { b: 'x' })).body.detail).toContain('shown to be read');
  });
});

describe('an outside table', () => {
  it('goes by a hash of the row where it counts no versions, and by its owner where a column names one', async () => {
    await show('postgresql', 'accounts', {
      owner: 'account',
      fields: [{ name: 'name', column: 'name', type: 'text' }],
      rules: { update: 'owner' },
    });
    const { body } = await call('GET', '/data/accounts/1', undefined, asRuna());
    expect(body).toMatchObject({ ownerId: runa.id });
    const changed = await test.app('PATCH', '/data/accounts/1', {
      ...asRuna(),
      headers: { 'If-Match': `"${body.version}"` },
      body: { name: 'Alva' },
    });
    expect(changed.status).toBe(200);
    expect(changed.body.version).not.toBe(body.version);
    const stale = await test.app('PATCH', '/data/accounts/1', {
      ...asRuna(),
      headers: { 'If-Match': `"${body.version}"` },
      body: { name: 'Else' },
    });
    expect(stale.status).toBe(412);
    const other = await signUp(test, app.dev.clientKey, 'kenji');
    expect((await call('GET', '/data/accounts/1', undefined, { key: app.dev.clientKey, token: other.token })).status).toBe(403);
  });

  it('is chosen with care: table, columns and types that are there', async () => {
    const refused = (body: object) => show('postgresql', 'chosen', body).then(JSON.stringify, ({ detail }) => detail);
    expect(await refused({ table: 'public.member' })).toContain('shows no table public.member; did you mean `public.members`?');
    expect(await refused({ key: 'number' })).toContain('has no column `number`');
    expect(await refused({ version: 'name' })).toContain('holds no whole numbers');
    expect(await refused({ fields: [{ name: 'born', column: 'born', type: 'number' }] })).toContain('`born` is date there');
    expect(await refused({ fields: [{ name: 'photo', column: 'photo', type: 'text' }] })).toContain('`photo` is bytea there');
    expect(await refused({ rules: { read: "search('alva')" } })).toContain('no search index');
  });

  it('whose server is away answers so, and its collection stays', async () => {
    const at = { ...app.dev.params, server: 'registry' };
    await test.owner.call(own.changeServer, { params: at, body: { port: 1 } });
    const started = Date.now();
    const answer = await call('GET', '/data/accounts');
    expect(answer).toMatchObject({ status: 503, body: { detail: expect.stringContaining('registry cannot be reached') } });
    expect(Date.now() - started).toBeLessThan(8_000);
    await test.owner.call(own.changeServer, { params: at, body: { port: postgresql.port } });
    expect((await call('GET', '/data/accounts')).status).toBe(200);
  });

  it('is shown no more when it is removed, and itself stays as it is', async () => {
    await expect(test.owner.call(own.removeServer, { params: { ...app.dev.params, server: 'registry' } })).rejects.toMatchObject({
      problem: 'wrong-state',
    });
    await test.owner.call(own.removeTable, { params: { ...app.dev.params, collection: 'accounts' } });
    expect((await call('GET', '/data/accounts')).status).toBe(404);
    expect((await postgres.query('SELECT COUNT(*)::int AS n FROM members')).rows[0].n).toBe(4);
  });
});
