import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { tendCollections } from '../src/data/collections/tending.js';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: Awaited<ReturnType<typeof signUp>>;
let kenji: Awaited<ReturnType<typeof signUp>>;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  kenji = await signUp(test, app.dev.clientKey, 'kenji');
  await make(
    'huts',
    [
      { name: 'name', type: 'text', required: true, unique: true },
      { name: 'region', type: 'choice', choices: ['north', 'south'] },
      { name: 'position', type: 'place' },
      { name: 'warden', type: 'reference', to: 'users', onDelete: 'clear' },
      { name: 'bunks', type: 'integer', min: 0, max: 80, default: 8 },
      { name: 'ledger', type: 'text', hidden: true },
    ],
    { read: 'TRUE' },
  );
  await make(
    'bookings',
    [
      { name: 'hut', type: 'reference', to: 'huts', onDelete: 'restrict', required: true },
      { name: 'nights', type: 'integer' },
      { name: 'arrives', type: 'date' },
      { name: 'madeAt', type: 'time', default: 'now()' },
      { name: 'state', type: 'choice', choices: ['asked', 'paid'], default: 'asked' },
    ],
    { read: "ownerId = me('id') OR hut.warden = me('id')", update: "ownerId = me('id') AND state = 'asked'" },
  );
  await make(
    'stamps',
    [
      { name: 'booking', type: 'reference', to: 'bookings', onDelete: 'cascade' },
      { name: 'text', type: 'text' },
    ],
    { read: 'TRUE' },
  );
});
afterAll(() => test.stop());

const params = (collection: string) => ({ ...app.dev.params, collection });
const make = (name: string, fields: object[], rules = {}) =>
  test.owner.call(operations.collections.create, { params: app.dev.params, body: { name, fields, rules } as never });
const trusted = () => ({ key: app.dev.serverKey });
const as = (user?: { token: string }) => ({ key: app.dev.clientKey, ...(user ? { token: user.token } : {}) });
const add = (collection: string, body: object, who: object = trusted()) =>
  test.app('POST', `/data/${collection}`, { ...who, body } as never);
const place = (lon: number, lat: number) => ({ type: 'Point', coordinates: [lon, lat] });

describe('constraints', () => {
  it('fill in defaults and hold at every write', async () => {
    const { status, body } = await add('huts', {
      id: 'cold-tarn',
      name: 'Cold Tarn',
      region: 'north',
      position: place(8.31, 61.27),
      warden: kenji.id,
      ledger: 'secret',
    });
    expect([status, body.bunks]).toEqual([201, 8]);
    await add('huts', { id: 'red-scree', name: 'Red Scree', region: 'south', position: place(8.4, 61.2) });
    for (const [fields, path, words] of [
      [{ name: 'X', region: 'west' }, 'body.region', 'must be one of north, south; got "west".'],
      [{ region: 'north' }, 'body.name', 'is required'],
      [{ name: 'Cold Tarn' }, 'body.name', 'has this name already'],
      [{ name: 'X', bunks: 99 }, 'body.bunks', 'at most 80; got 99.'],
      [{ name: 'X', warden: 'nobody' }, 'body.warden', 'refers to `users` "nobody", which does not exist.'],
      [{ name: 'X', position: place(8, 95) }, 'body.position', 'must be a GeoJSON Point'],
      [{ name: 'X', bunks: 2 ** 53 }, 'body.bunks', 'must be an integer; got 9007199254740992.'],
    ] as const) {
      const refused = await add('huts', fields);
      expect(refused.body.fields?.[0]).toMatchObject({ path, problem: expect.stringContaining(words) });
    }
  });

  it('hide fields from clients: in answers, filters, sorts and writes', async () => {
    const read = await test.app('GET', '/data/huts/cold-tarn', as(runa));
    expect(read.body).not.toHaveProperty('ledger');
    expect((await test.app('GET', '/data/huts/cold-tarn', trusted())).body.ledger).toBe('secret');
    for (const query of ["filter=ledger = 'secret'", 'sort=ledger', 'fields=ledger'])
      expect((await test.app('GET', `/data/huts?${query}`, as(runa))).status).toBe(422);
    expect((await test.app('PUT', '/data/huts/new-hut', { ...as(runa), body: { name: 'N', ledger: 'mine' } })).body.fields[0].path).toBe(
      'body.ledger',
    );
  });
});

describe('references', () => {
  it('are followed by filters and rules, and never show what the caller may not read', async () => {
    const { body: booking } = await add('bookings', { hut: 'cold-tarn', nights: 2, arrives: '2026-07-14' }, as(runa));
    const list = (who: object, filter: string) => test.app('GET', `/data/bookings?${new URLSearchParams({ filter })}`, who);
    expect((await list(as(runa), "hut.region = 'north'")).body.items).toHaveLength(1);
    expect((await list(as(runa), "hut.region = 'south'")).body.items).toEqual([]);
    // Kenji wardens the hut; Runa's e-mail address is hers alone.
    expect((await list(as(kenji), 'nights = 2')).body.items.map(({ id }: { id: string }) => id)).toEqual([booking.id]);
    expect((await list(as(runa), "hut.warden.email LIKE 'kenji%'")).body.items).toEqual([]);
    expect((await list(trusted(), "hut.warden.email LIKE 'kenji%'")).body.items).toHaveLength(1);
    expect((await list(as(runa), "hut.ledger = 'secret'")).status).toBe(422);
    expect((await list(as(runa), "hut.regoin = 'north'")).body.detail).toContain('did you mean `hut.region`');
  });

  it('decide over what becomes of records when the other is deleted', async () => {
    const { body: booking } = await add('bookings', { hut: 'red-scree', nights: 1 });
    await add('stamps', { id: 'first', booking: booking.id, text: 'Red Scree' });
    const refused = await test.app('DELETE', '/data/huts/red-scree', trusted());
    expect(refused).toMatchObject({
      status: 409,
      body: { type: '/docs/problems/still-referenced', detail: expect.stringContaining('`hut` in `bookings`') },
    });
    expect((await test.app('DELETE', `/data/bookings/${booking.id}`, trusted())).status).toBe(204);
    expect((await test.app('GET', '/data/stamps/first', trusted())).status).toBe(404);
    const { items } = await test.owner.call(operations.managedRecords.history, { params: { ...params('stamps'), id: 'first' } });
    expect(items.map(({ action }) => action)).toEqual(['delete', 'create']);
    const lorenz = await signUp(test, app.dev.clientKey, 'lorenz');
    await test.app('PATCH', '/data/huts/red-scree', { ...trusted(), body: { warden: lorenz.id } });
    await test.owner.call(operations.users.remove, { params: { ...app.dev.params, user: lorenz.id } });
    expect((await test.app('GET', '/data/huts/red-scree', trusted())).body).toMatchObject({ warden: null, version: 3 });
  });

  it('bring records along, forward and back, three deep', async () => {
    const get = (path: string, who: object = as(runa)) => test.app('GET', path, who);
    const { body } = await get('/data/bookings?include=hut.warden,hut.bookings(hut)');
    const [booking] = body.items;
    expect(booking._included.hut).toMatchObject({ id: 'cold-tarn', name: 'Cold Tarn' });
    // A user is read only by themselves.
    expect(booking._included.hut._included.warden).toBeNull();
    expect(booking._included.hut._included['bookings(hut)']).toMatchObject({ more: false, items: [{ id: booking.id }] });
    expect((await get('/data/huts/cold-tarn?include=warden', trusted())).body._included.warden).toMatchObject({ name: 'kenji', roles: [] });
    for (const [include, words] of [
      ['hut.bookings(hut).hut.warden', 'follows 4 references'],
      ['hat', 'no reference `hat`; did you mean `hut`?'],
      ['huts(hut)', 'No reference `hut` of `huts` points to `bookings`'],
    ]) {
      const refused = await get(`/data/bookings?include=${include}`);
      expect([refused.status, refused.body.detail]).toEqual([422, expect.stringContaining(words as string)]);
    }
  });
});

describe('access rules', () => {
  it('look at the record before a change and after it', async () => {
    const { body } = await add('bookings', { hut: 'cold-tarn', nights: 3 }, as(runa));
    const change = (fields: object) => test.app('PATCH', `/data/bookings/${body.id}`, { ...as(runa), body: fields });
    expect((await change({ nights: 4 })).status).toBe(200);
    expect(await change({ state: 'paid' })).toMatchObject({
      status: 403,
      body: { detail: expect.stringContaining("state = 'asked' is false") },
    });
    expect((await test.app('GET', `/data/bookings/${body.id}`, as(runa))).body).toMatchObject({ nights: 4, state: 'asked' });
  });

  it('can be tried out as somebody, with the part that decides', async () => {
    const attempt = (body: object) => test.owner.call(operations.collections.tryRule, { params: params('bookings'), body: body as never });
    const { items } = (await test.app('GET', '/data/bookings?limit=1', as(runa))).body;
    expect(await attempt({ action: 'read', user: kenji.id, record: items[0].id })).toMatchObject({
      allowed: true,
      explained: {
        parts: [
          { text: "ownerId = me('id')", result: false },
          { text: "hut.warden = me('id')", result: true, decided: true },
        ],
      },
    });
    expect(await attempt({ action: 'read', user: null, record: items[0].id })).toMatchObject({ allowed: false });
    expect(
      await attempt({
        action: 'create',
        user: runa.id,
        record: { hut: 'cold-tarn' },
        rule: "A_CONTAINS(me('roles'), ('warden'))",
        roles: ['warden'],
      }),
    ).toMatchObject({ allowed: true });
    await expect(attempt({ action: 'read', user: runa.id, record: items[0].id, rule: 'nigths > 2' })).rejects.toMatchObject({
      problem: 'malformed-filter',
      detail: expect.stringContaining('did you mean `nights`'),
    });
  });

  it('take a preset by its name', async () => {
    const changed = await test.owner.call(operations.collections.patch, {
      params: params('stamps'),
      body: { rules: { create: 'signed-in' } },
    });
    expect(changed.rules.create).toBe("me('id') IS NOT NULL");
  });
});

describe('changes of fields', () => {
  beforeAll(async () => {
    await make(
      'trails',
      [
        { name: 'name', type: 'text' },
        { name: 'lengthKm', type: 'text' },
        { name: 'state', type: 'text' },
        { name: 'start', type: 'place' },
      ],
      { read: 'TRUE', update: "state = 'open'" },
    );
    const rows = [
      ['a', '12.5', 'open'],
      ['b', '7', 'open'],
      ['c', 'far', 'shut'],
      ['d', null, 'open'],
    ];
    for (const [id, lengthKm, state] of rows) await add('trails', { id, name: `Trail ${id}`, lengthKm, state, start: place(8, 61) });
  });
  const change = (body: object, query = {}) =>
    test.owner.call(operations.collections.change, { params: params('trails'), body: body as never, query });
  const preview = (body: object) =>
    test.owner.call(operations.collections.previewChange, { params: params('trails'), body: body as never });
  const read = async (id: string) => (await test.app('GET', `/data/trails/${id}`, trusted())).body;

  it('are previewed with what fits, what does not, and examples', async () => {
    expect(await preview({ change: 'set', name: 'lengthKm', field: { type: 'number' } })).toMatchObject({
      fits: 3,
      misfits: 1,
      examples: [{ id: 'c', value: 'far', problem: 'cannot become number' }],
      blocked: null,
    });
    expect(await preview({ change: 'set', name: 'lengthKm', field: { type: 'text', required: true } })).toMatchObject({
      misfits: 1,
      examples: [{ id: 'd' }],
    });
    expect(await preview({ change: 'set', name: 'state', field: { type: 'text', unique: true } })).toMatchObject({
      misfits: 3,
      examples: [{ problem: '3 records have this value' }],
    });
    expect((await preview({ change: 'drop', name: 'state' })).blocked).toContain('The update rule of `trails` names `state`');
  });

  it('convert values, and keep those of the old type for a while', async () => {
    await expect(change({ change: 'set', name: 'lengthKm', field: { type: 'number' } })).rejects.toMatchObject({
      problem: 'records-do-not-fit',
      extras: { fields: [{ path: 'trails/c.lengthKm' }] },
    });
    expect((await read('c')).lengthKm).toBe('far');
    const { dropped } = await change({ change: 'set', name: 'lengthKm', field: { type: 'number' } }, { misfits: 'clear' });
    expect([(await read('a')).lengthKm, (await read('c')).lengthKm]).toEqual([12.5, null]);
    expect(dropped).toMatchObject([{ name: 'lengthKm', type: 'text' }]);
    await change({ change: 'recover', column: dropped[0]?.column, as: 'lengthText' });
    expect(await read('c')).toMatchObject({ lengthText: 'far', lengthKm: null });
    // Writing goes on, and the feed shows the new fields.
    await test.app('PATCH', '/data/trails/a', { ...trusted(), body: { lengthKm: 13.25 } });
    const { items } = await test.owner.call(operations.managedRecords.history, { params: { ...params('trails'), id: 'a' } });
    expect(items[0]?.changes).toEqual([{ field: 'lengthKm', from: 12.5, to: 13.25 }]);
  });

  it('convert values while the collection is written, and lose no write', async () => {
    const count = 3_000;
    for (let from = 0; from < count; from += 500)
      await test.app('POST', '/data/gauges/batch', {
        ...trusted(),
        body: {
          actions: Array.from({ length: 500 }, (_, i) => ({
            action: 'create',
            record: { id: `g${from + i}`, level: String(from + i), note: 'x' },
          })),
        },
      } as never);
    let changing = true;
    const written = new Map<string, { level: number; note: string }>();
    let n = 0;
    const writer = async (worker: number) => {
      while (changing) {
        const i = n++;
        const id = i % 3 === 2 ? `new${i}` : `g${(i * 37) % count}`;
        const level = 10_000 + i;
        // As the app that still sends texts does, until it learns of the change.
        let reply = await test.app('PUT', `/data/gauges/${id}`, { ...trusted(), body: { level: String(level), note: `by ${worker}` } });
        if (reply.status === 422)
          reply = await test.app('PUT', `/data/gauges/${id}`, { ...trusted(), body: { level, note: `by ${worker}` } });
        expect([200, 201, 412]).toContain(reply.status);
        if (reply.status < 300) written.set(id, { level, note: `by ${worker}` });
      }
    };
    const writing = writer(0);
    await test.owner.call(operations.collections.change, {
      params: params('gauges'),
      body: { change: 'set', name: 'level', field: { type: 'integer' } } as never,
      query: { misfits: 'refuse' },
    });
    changing = false;
    await writing;
    expect(written.size).toBeGreaterThan(5);
    for (const [id, wanted] of written) expect((await test.app('GET', `/data/gauges/${id}`, trusted())).body, id).toMatchObject(wanted);
    const untouched = Array.from({ length: count }, (_, i) => i).filter((i) => !written.has(`g${i}`));
    for (const i of untouched.slice(0, 50)) expect((await test.app('GET', `/data/gauges/g${i}`, trusted())).body.level).toBe(i);
    expect((await test.app('GET', '/data/gauges?filter=level IS NULL', trusted())).body.items).toEqual([]);
  });

  it('rename, drop and bring back without losing a value', async () => {
    await change({ change: 'rename', name: 'name', to: 'title' });
    expect(await read('b')).toMatchObject({ title: 'Trail b' });
    const { dropped } = await change({ change: 'drop', name: 'title' });
    expect(await read('b')).not.toHaveProperty('title');
    await change({ change: 'recover', column: dropped.find(({ name }) => name === 'title')?.column });
    expect(await read('b')).toMatchObject({ title: 'Trail b' });
    await expect(change({ change: 'rename', name: 'title', to: 'state' })).rejects.toMatchObject({ problem: 'already-exists' });
  });

  it('follow a JSON Schema that was read and sent back changed', async () => {
    const schema = (await test.owner.call(operations.collections.schema, { params: params('trails') })) as never as {
      properties: Record<string, object>;
      required?: string[];
    };
    delete schema.properties.lengthText;
    schema.properties.ascentM = { type: ['integer', 'null'], minimum: 0 };
    schema.properties.state = { type: 'string', enum: ['open', 'shut'] };
    schema.required = ['state'];
    const { changes } = await test.owner.call(operations.collections.previewSchema, { params: params('trails'), body: schema as never });
    expect(changes.map(({ change: { change: what, ...rest } }) => `${what} ${'name' in rest ? rest.name : ''}`)).toEqual([
      'drop lengthText',
      'set state',
      'add ascentM',
    ]);
    await test.owner.call(operations.collections.putSchema, { params: params('trails'), body: schema as never });
    expect((await add('trails', { state: 'half' })).body.detail).toContain('must be one of open, shut');
    expect((await test.owner.call(operations.collections.schema, { params: params('trails') })).properties).toMatchObject({
      ascentM: { minimum: 0 },
    });
  });

  it('survive a crash between the change of the table and what is known of it', async () => {
    const { database, catalogue } = test.service.parts;
    const environment = await test.service.parts.directory.environment('quillfell-hiker', 'dev');
    // As if the service had ended after ALTER TABLE: the triggers still name the old column.
    await database.run(`ALTER TABLE \`${environment.db.name}\`.trails CHANGE COLUMN ascentM climbM BIGINT NULL COMMENT 'integer'`);
    const { status } = await test.app('PATCH', '/data/trails/a', { ...trusted(), body: { state: 'shut' } });
    expect(status).toBe(200);
    expect((await read('a')).climbM).toBeNull();
    // A table without its row is taken over by the next first write.
    await database.run(
      `CREATE TABLE \`${environment.db.name}\`.leftover (id VARCHAR(64) NOT NULL PRIMARY KEY, createdAt DATETIME(3) NOT NULL, updatedAt DATETIME(3) NOT NULL, version INT NOT NULL, ownerId VARCHAR(64) NULL, _by VARCHAR(300) NOT NULL DEFAULT '')`,
    );
    catalogue.forget(environment);
    expect((await add('leftover', { text: 'here' }, as(runa))).status).toBe(201);
  });
});

describe('indexes', () => {
  it('are advised from what lists cost, and show what they gained', async () => {
    await test.app('POST', '/data/huts/batch', {
      ...trusted(),
      body: { actions: Array.from({ length: 220 }, (_, i) => ({ action: 'create', record: { name: `Hut ${i}` } })) },
    } as never);
    await test.app('GET', "/data/huts?filter=region = 'north'&sort=bunks", as(runa));
    const advice = async () =>
      (await test.owner.call(operations.collections.advice, { params: params('huts') })).items.find(
        ({ form }) => form === 'region = …, sorted by bunks',
      );
    expect(await advice()).toMatchObject({ calls: 1, servedBy: null, before: null });
    const environment = await test.service.parts.directory.environment('quillfell-hiker', 'dev');
    await test.service.parts.database.run(`UPDATE \`${environment.db.name}\`._queries SET totalUs = 50000`);
    expect(await advice()).toMatchObject({ propose: { fields: ['region', 'bunks'], kind: 'order' } });
    const index = await test.owner.call(operations.collections.addIndex, { params: params('huts'), body: { fields: ['region', 'bunks'] } });
    await test.app('GET', "/data/huts?filter=region = 'south'&sort=bunks", as(runa));
    expect(await advice()).toMatchObject({ propose: null, servedBy: index.name, calls: 1, before: { calls: 1, meanMs: 50 } });
    await test.owner.call(operations.collections.removeIndex, { params: { ...params('huts'), index: index.name } });
    await expect(
      test.owner.call(operations.collections.addIndex, { params: params('huts'), body: { fields: ['regoin'] } }),
    ).rejects.toMatchObject({ detail: expect.stringContaining('did you mean `region`') });
  });

  it('over several fields together can be unique', async () => {
    await make('bunks', [
      { name: 'hut', type: 'text' },
      { name: 'number', type: 'integer' },
    ]);
    const unique = () =>
      test.owner.call(operations.collections.addIndex, { params: params('bunks'), body: { fields: ['hut', 'number'], unique: true } });
    for (const id of ['one', 'two']) await add('bunks', { id, hut: 'a', number: 1 });
    await expect(unique()).rejects.toMatchObject({
      problem: 'records-do-not-fit',
      detail: expect.stringContaining('have the same hut and number'),
    });
    await test.app('PATCH', '/data/bunks/two', { ...trusted(), body: { number: 2 } });
    expect(await unique()).toMatchObject({ name: 'one_hut_number', kind: 'unique' });
    expect((await add('bunks', { hut: 'a', number: 2 })).body.detail).toContain('Another record of `bunks` has this hut, number already.');
    expect((await add('bunks', { hut: 'a' })).status).toBe(201);
  });

  it('of unique texts find their records, too, and are not told apart from the constraint', async () => {
    await make('codes', [{ name: 'code', type: 'text', unique: true }]);
    const actions = Array.from({ length: 300 }, (_, i) => ({ action: 'create', record: { code: `code-${i}` } }));
    await test.app('POST', '/data/codes/batch', { ...trusted(), body: { actions } });
    const { db } = await test.service.parts.directory.environment(app.name, 'dev');
    const readRows = async () => {
      const [plan] = await db.rows<{ rows: string }>(`EXPLAIN SELECT * FROM ${db.collection('codes')} WHERE code = 'code-7'`);
      return Number(plan?.rows);
    };
    expect(await readRows()).toBe(1);
    const { items } = await test.owner.call(operations.collections.list, { params: app.dev.params });
    expect(items.find(({ name }) => name === 'codes')?.indexes.map(({ kind, fields }) => [kind, fields])).toEqual([
      ['order', ['ownerId']],
      ['unique', ['code']],
    ]);
    // A table of an earlier version gets it when it is brought up to date.
    await db.run(`ALTER TABLE ${db.collection('codes')} DROP INDEX \`_l__u_code\``);
    expect(await readRows()).toBeGreaterThan(200);
    await test.service.parts.catalogue.repair(await test.service.parts.directory.environment(app.name, 'dev'));
    expect(await readRows()).toBe(1);
  });

  it('over places find what is near, and follow places that move', async () => {
    await test.owner.call(operations.collections.addIndex, { params: params('huts'), body: { fields: ['position'] } });
    const near = async () =>
      (
        await test.app(
          'GET',
          `/data/huts?${new URLSearchParams({ filter: 'distance(position, POINT(8.31 61.27)) < 2000', sort: 'distance(position, POINT(8.31 61.27))' })}`,
          as(runa),
        )
      ).body.items.map(({ id }: { id: string }) => id);
    expect(await near()).toEqual(['cold-tarn']);
    await test.app('PATCH', '/data/huts/red-scree', { ...trusted(), body: { position: place(8.311, 61.271) } });
    expect(await near()).toEqual(['cold-tarn', 'red-scree']);
    await test.app('PATCH', '/data/huts/red-scree', { ...trusted(), body: { position: null } });
    expect(await near()).toEqual(['cold-tarn']);
  });
});

it('summarises by fields and steps of time, only over what the caller may read', async () => {
  await make('nights', [
    { name: 'hut', type: 'text' },
    { name: 'arrives', type: 'date' },
    { name: 'count', type: 'integer' },
    { name: 'price', type: 'number' },
  ]);
  for (const [hut, arrives, count, price, who] of [
    ['a', '2026-07-13', 1, 10.5, runa],
    ['a', '2026-07-19', 2, 20, runa],
    ['b', '2026-07-20', 3, null, runa],
    ['b', '2026-07-20', 5, 1, kenji],
  ] as const)
    await add('nights', { hut, arrives, count, price }, as(who));
  const summary = async (query: Record<string, string>, who: object = as(runa)) =>
    (await test.app('GET', `/summaries/nights?${new URLSearchParams(query)}`, who)).body;
  expect(await summary({ group: 'arrives:week', measure: 'count,sum:count,avg:price,distinct:hut' })).toEqual({
    groups: [
      { 'arrives:week': '2026-07-13', count: 2, 'sum:count': 3, 'avg:price': 15.25, 'distinct:hut': 1 },
      { 'arrives:week': '2026-07-20', count: 1, 'sum:count': 3, 'avg:price': null, 'distinct:hut': 1 },
    ],
    more: false,
  });
  expect((await summary({ measure: 'sum:count,max:arrives,min:price' }, trusted())).groups).toEqual([
    { 'sum:count': 11, 'max:arrives': '2026-07-20', 'min:price': 1 },
  ]);
  expect((await summary({ group: 'hut', filter: 'count > 1' }, trusted())).groups).toEqual([
    { hut: 'a', count: 1 },
    { hut: 'b', count: 2 },
  ]);
  for (const [query, words] of [
    [{ group: 'a,b,c,d' }, 'groups by 4 fields'],
    [{ measure: 'sum:hut' }, 'holds no numbers'],
    [{ measure: 'median:count' }, 'is not a measure'],
    [{ group: 'hut:day' }, 'is not a step of time'],
  ] as const)
    expect((await summary(query)).detail).toContain(words);
});

it('keeps views for the team, and deletes a collection only when nothing refers to it', async () => {
  const view = await test.owner.call(operations.collections.saveView, {
    params: params('huts'),
    body: { name: 'North', query: "filter=region = 'north'" },
  });
  await test.owner.call(operations.collections.saveView, { params: params('huts'), body: { name: 'North', query: 'filter=bunks > 3' } });
  expect((await test.owner.call(operations.collections.views, { params: params('huts') })).items).toEqual([
    { ...view, query: 'filter=bunks > 3' },
  ]);
  await expect(test.owner.call(operations.collections.remove, { params: params('huts') })).rejects.toMatchObject({
    problem: 'still-referenced',
    detail: '`hut` of `bookings` refers to `huts`. Drop that field first.',
  });
  await test.owner.call(operations.collections.remove, { params: params('stamps') });
  expect((await test.app('GET', '/data/stamps', trusted())).status).toBe(404);
});

it('ends history after 30 days and dropped fields after 7, and goes on numbering where it was', async () => {
  const { parts } = test.service;
  const environment = await parts.directory.environment('quillfell-hiker', 'dev');
  await make('old', [
    { name: 'a', type: 'text' },
    { name: 'b', type: 'text' },
  ]);
  await add('old', { id: 'one', a: 'A', b: 'B' });
  await test.owner.call(operations.collections.change, { params: params('old'), body: { change: 'drop', name: 'b' } });
  const highest = await parts.feed.settle(environment);
  const after = (days: number) => tendCollections({ ...parts, now: () => Date.now() + days * 86_400_000 }, environment);
  const dropped = async () => (await test.owner.call(operations.collections.read, { params: params('old') })).dropped.length;
  const history = async () =>
    (await test.owner.call(operations.managedRecords.history, { params: { ...params('huts'), id: 'cold-tarn' } })).items.length;
  const before = await history();
  await after(6);
  expect([await dropped(), await history()]).toEqual([1, before]);
  await after(8);
  expect([await dropped(), await history()]).toEqual([0, before]);
  await after(31);
  expect(await history()).toBe(0);
  await add('old', { id: 'two' });
  expect(await parts.feed.settle(environment)).toBe(highest + 1);
});
