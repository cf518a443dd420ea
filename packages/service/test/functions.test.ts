/** Functions of the team: endpoints, in force from the next call on. */
import { type FunctionRun, operations, type Problem } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: { id: string; token: string };
const own = operations.functions;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: {
      name: 'bookings',
      fields: [
        { name: 'nights', type: 'integer', min: 0 },
        { name: 'hut', type: 'text' },
      ],
    },
  });
  for (const [id, nights, ownerId] of [
    ['b1', 2, runa.id],
    ['b2', 5, null],
  ] as const)
    await test.app('PUT', `/data/bookings/${id}`, { key: app.dev.serverKey, body: { nights, hut: 'Fellgate', ownerId } });
});
afterAll(() => test.stop());

const at = (name: string) => ({ params: { ...app.dev.params, name } });
const put = (name: string, source: string, more: object = {}) =>
  test.owner.call(own.put, { ...at(name), body: { kind: 'endpoint', path: name, source, ...more } as never });
const refused = (name: string, source: string, more: object = {}): Promise<Problem> =>
  put(name, source, more).then(
    () => null as never,
    (error) => error,
  );
const call = (path: string, options: object = {}, method = 'GET') =>
  test.app(method, `/endpoints/${path}`, { key: app.dev.clientKey, token: runa.token, ...options });
/** The body of an answer, whatever JSON it is. */
const said = async (path: string, options: object = {}) => JSON.parse((await call(path, options)).text);
const runs = async (name: string): Promise<FunctionRun[]> => (await test.owner.call(own.runs, at(name))).items;
const latest = (name: string) => eventually(async () => (await runs(name))[0]);

describe('an endpoint', () => {
  it('answers from the next call on, with what the path, the query and the caller say', async () => {
    await put(
      'price',
      `const handler: Endpoint = ({ params, query, caller, method }) => ({ status: 200, headers: { 'x-hut': params.hut }, body: { nights: Number(query.nights) * 40, who: caller.kind, method } });
       export default handler;`,
      { path: 'huts/{hut}/price', methods: ['GET', 'POST'] },
    );
    const answer = await call('huts/fellgate/price?nights=3');
    expect([answer.status, answer.headers.get('x-hut'), answer.body]).toEqual([
      200,
      'fellgate',
      { nights: 120, who: 'user', method: 'GET' },
    ]);
    expect((await call('huts/fellgate/price?nights=1', { body: {} }, 'POST')).body.method).toBe('POST');
    expect((await call('huts/fellgate/price', {}, 'DELETE')).headers.get('allow')).toBe('GET, POST');
    expect((await call('huts/nothing')).status).toBe(404);
    await put('price', `export default () => ({ body: 'changed' });`, { path: 'huts/{hut}/price' });
    expect(await said('huts/fellgate/price')).toBe('changed');
  });

  it('reads and writes with the rights of its caller, or its own', async () => {
    const source = `export default async ({ body }, { records }) => {
      const { items } = await records('bookings').list({ sort: 'id' });
      const changed = await records('bookings').change('b1', { _add: { nights: 1 } });
      return { body: { seen: items.map(({ id }) => id), nights: changed.nights } };
    };`;
    await put('mine', source);
    expect(await said('mine')).toEqual({ seen: ['b1'], nights: 3 });
    await put('all', source, { rights: 'own' });
    expect(await said('all')).toEqual({ seen: ['b1', 'b2'], nights: 4 });
    await put('theirs', `export default async (_, { records }) => ({ body: await records('bookings').read('b2') });`);
    expect((await call('theirs')).status).toBe(502);
    expect((await latest('theirs')).error).toContain('access-refused');
  });

  it('is for whom it says: signed-in users and servers, servers alone, or anyone', async () => {
    const anonymous = { token: undefined };
    await put('who', `export default ({ caller }) => ({ body: caller.kind });`);
    expect((await call('who', anonymous)).status).toBe(403);
    expect(await said('who', { key: app.dev.serverKey, token: undefined })).toBe('server');
    await put('who', `export default ({ caller }) => ({ body: caller.kind });`, { callers: 'anyone' });
    expect(await said('who', anonymous)).toBe('client');
    await put('who', `export default ({ caller }) => ({ body: caller.kind });`, { callers: 'servers' });
    expect((await call('who')).status).toBe(403);
  });

  it('refuses in the words of the team, fails without telling why, and is stopped at its limits', async () => {
    await put('full', `export default (_, { refuse }) => refuse('The hut is full.', { status: 409, field: 'hut' });`);
    expect(await call('full')).toMatchObject({ status: 409, body: { detail: 'The hut is full.', fields: [{ path: 'body.hut' }] } });
    await put('broken', `export default ({ body }) => { throw new Error('password is larch'); };`);
    const broken = await call('broken');
    expect([broken.status, broken.text.includes('larch')]).toEqual([502, false]);
    expect(await latest('broken')).toMatchObject({
      outcome: 'failed',
      error: expect.stringContaining('password is larch'),
      event: { method: 'GET', path: 'broken', params: {}, query: {}, body: null },
      memoryKb: expect.toSatisfy((kb) => kb === null || (kb > 10 && kb < 10_000)),
    });
    await put('worker', `export default () => { let n = 0; for (let i = 0; i < 400_000; i++) n += i; return { body: n }; };`);
    // On a busy machine a run may be stopped at its limit before it has worked hard enough to be measured.
    await eventually(async () => (await call('worker')).status === 200 && (await latest('worker')).memoryKb !== null);
    expect(await latest('worker')).toMatchObject({ event: null, memoryKb: expect.any(Number) });
    await put('endless', 'export default () => { for (;;); };');
    expect((await call('endless')).status).toBe(503);
    expect(await latest('endless')).toMatchObject({ outcome: 'stopped', error: expect.stringContaining('200 ms') });
    expect((await call('full')).status).toBe(409);
    await put('odd', `export default () => ({ status: 200, headers: { 'set-cookie': 'a=b' }, body: 1 });`);
    expect((await call('odd')).status).toBe(502);
    for (const headers of ['null', '"x"', '[1]']) {
      await put('odd', `export default () => ({ status: 200, headers: ${headers}, body: 1 });`);
      expect((await call('odd')).body.type).toContain('function-failed');
    }
  });

  it.each([
    ['fields that are no text', `records('bookings').list({ fields: 5 })`, '`query.fields`: Must be'],
    ['a limit that is no number', `records('bookings').list({ limit: 'many' })`, '`query.limit`: Must be'],
    ['a misspelt member', `records('bookings').summary({ messure: 'count' })`, 'Unknown query parameter `messure`'],
    ['an id that is no text', `records('bookings').read({ a: 1 })`, '`path.id`: Must be'],
    ['no collection', `records(undefined).read('b1')`, '`path.collection`: Must be'],
    ['a record that is none', `records('bookings').create('x')`, '`record`: Must be'],
    ['an option that is none', `records('bookings').change('b1', {}, { ifMatch: 1 })`, '`options.ifMatch`'],
    ['a filter that breaks off', `records('bookings').list({ filter: 'nights = ' })`, 'malformed-filter: '],
  ])('is told what is wrong with a call of it: %s', async (_, asked, told) => {
    await put('wrong', `export default async (_: any, { records }: any) => ({ body: await ${asked}.catch((e: Error) => e.message) });`);
    expect(await said('wrong')).toContain(told);
  });

  it('takes the version that a write relies on from its options alone', async () => {
    await put(
      'copy',
      `export default async (_, { records }) => {
         const { nights, hut, ...rest } = await records('bookings').read('b2');
         await records('bookings').change('b2', { nights: nights + 1 });
         const late = await records('bookings').change('b2', { nights: 9 }, { version: rest.version }).catch((e) => e.message);
         return { body: [(await records('bookings').change('b2', { nights }, {})).nights === nights, late] };
       };`,
    );
    expect(await said('copy', { key: app.dev.serverKey, token: undefined })).toEqual([true, expect.stringContaining('version-conflict')]);
  });

  it('is recorded with its log, its calls and what it used', async () => {
    await put(
      'noted',
      `export default async (_, { records, log }) => { log.info('reads', { id: 'b1' }); await records('bookings').read('b1'); return { body: 1 }; };`,
    );
    const answer = await call('noted');
    const run = await latest('noted');
    expect(run).toMatchObject({
      id: answer.headers.get('orchard-request'),
      version: 1,
      outcome: 'answered',
      status: 200,
      userId: runa.id,
      log: [{ level: 'info', text: 'reads {"id":"b1"}' }],
      calls: [{ name: 'records.read', about: 'bookings/b1', ok: true }],
    });
    expect(run.cpuMs).toBeGreaterThan(0);
    expect((await test.owner.call(own.read, at('noted'))).runs).toMatchObject({ count: 1, failed: 0 });
  });
});

describe('a version', () => {
  it('is refused with file, line and column of what is wrong, and nothing changes', async () => {
    await put('typed', `export default () => ({ body: 'first' });`);
    const problem = await refused(
      'typed',
      `const handler: Endpoint = async (_, { records }) => {\n  const booking = await records('bookings').read('b1');\n  return { body: booking.nigths };\n};\nexport default handler;`,
    );
    expect(problem).toMatchObject({ problem: 'function-refused', detail: expect.stringMatching(/^main\.ts, line 3, column 26: .*nigths/) });
    expect((await refused('typed', 'export default () => {')).extras.fields?.[0]).toMatchObject({
      path: 'main.ts:1:23',
      problem: expect.stringContaining("'}' expected"),
    });
    expect(
      (
        await refused('typed', `const handler: Endpoint = (_, { records }) => records('bookingz').read('b1');\nexport default handler;`)
      ).extras.fields
        ?.map(({ problem }) => problem)
        .join(),
    ).toContain('bookingz');
    expect((await refused('typed', 'export const a = 1;')).detail).toContain('no default export');
    expect((await refused('typed', '// export default\nconst a = 1;')).detail).toContain('no default export');
    const deep = `export default () => ${'('.repeat(20_000)}1${')'.repeat(20_000)};`;
    expect((await refused('typed', deep)).detail).toContain('nested too deep');
    expect((await refused('typed', 'x', { path: 'Not A Path' })).problem).toBe('invalid-input');
    expect((await refused('other', 'export default () => ({ body: 1 });', { path: 'typed' })).problem).toBe('already-exists');
    expect(await said('typed')).toBe('first');
  });

  it('has a number of its own when several save at once', async () => {
    const saved = await Promise.all(['a', 'b', 'c'].map((one) => put('busy', `export default () => ({ body: '${one}' });`)));
    expect(saved.map(({ versions }) => versions).sort()).toEqual([1, 2, 3]);
  });

  it('is one of many: saved without use, put in force and back, from several files', async () => {
    await put('many', `export default () => ({ body: 'one' });`);
    await put('many', '', {
      source: undefined,
      use: false,
      files: {
        'main.ts': `import { two } from './lib/numbers';\nexport default () => ({ body: two });`,
        'lib/numbers.ts': `export const two: string = 'two';`,
      },
    });
    expect(await said('many')).toBe('one');
    await test.owner.call(own.use, { ...at('many'), body: { version: 2 } });
    expect(await said('many')).toBe('two');
    await test.owner.call(own.use, { ...at('many'), body: { version: 1 } });
    expect(await said('many')).toBe('one');
    const { items } = await test.owner.call(own.versions, at('many'));
    expect(items.map(({ version, inForce }) => [version, inForce])).toEqual([
      [2, false],
      [1, true],
    ]);
    await test.owner.call(own.use, { ...at('many'), body: { version: 0 } });
    expect((await call('many')).status).toBe(404);
    await test.owner.call(own.remove, at('many'));
    await expect(test.owner.call(own.read, at('many'))).rejects.toMatchObject({ problem: 'not-found' });
  });

  it('is tried before it is in force: its changes are shown, and undone', async () => {
    await put('draft', `export default () => ({ body: 'in force' });`);
    const draft = `export default async ({ body }, { records }) => {
      await records('bookings').create({ nights: body.nights, hut: 'Skarn' });
      const changed = await records('bookings').change('b1', { nights: 14 });
      return { status: 201, body: changed.nights };
    };`;
    const tried = await test.owner.call(own.try, {
      ...at('draft'),
      body: { source: draft, request: { method: 'POST', body: { nights: 9 } }, user: runa.id } as never,
    });
    expect(tried).toMatchObject({
      outcome: 'answered',
      answer: { status: 201, body: 14 },
      changes: [
        { call: 'records.create', collection: 'bookings' },
        { call: 'records.change', id: 'b1', after: { nights: 14 } },
      ],
    });
    const { body } = await test.app('GET', '/data/bookings/b1', { key: app.dev.serverKey });
    expect(body.nights).not.toBe(14);
    expect(
      (await test.app('GET', `/data/bookings?filter=${encodeURIComponent("hut = 'Skarn'")}`, { key: app.dev.serverKey })).body.items,
    ).toEqual([]);
    expect(await said('draft')).toBe('in force');
  });
});

describe('what a function can reach', () => {
  it('are secrets that nobody is shown, and that are masked in its log', async () => {
    const secret = { params: { ...app.dev.params, secret: 'weather-key' } };
    await test.owner.call(own.putSecret, { ...secret, body: { value: 'hush-hush-42' } });
    await put(
      'hidden',
      `export default async (_, { secret, log }) => { const key = await secret('weather-key'); log.info('with ' + key); return { body: key.length }; };`,
    );
    expect(await said('hidden')).toBe(12);
    expect((await latest('hidden')).log).toEqual([{ level: 'info', text: 'with •••' }]);
    const shown = JSON.stringify([
      await test.owner.call(own.secrets, { params: app.dev.params }),
      await test.owner.call(operations.audit.list, { params: app.dev.params } as never),
    ]);
    expect(shown).not.toContain('hush-hush');
    await test.owner.call(own.removeSecret, secret);
    expect((await call('hidden')).status).toBe(502);
    expect((await latest('hidden')).error).toContain('There is no secret weather-key');
  });

  it('are hosts that are listed, and no private address', async () => {
    const source = (address: string) =>
      `export default async (_, { fetch }) => { try { return { body: (await fetch('${address}')).status }; } catch (error) { return { body: error.message }; } };`;
    const fetched = async (address: string, hosts: string[]) => {
      await put('fetching', source(address), { hosts });
      return said('fetching');
    };
    const { address } = test.simulators;
    expect(await fetched(`${address}/desk/authority.pem`, ['127.0.0.1'])).toBe(200);
    expect(await fetched(`${address}/desk/authority.pem`, ['weather.example'])).toContain('is not among the hosts');
    expect(await fetched('https://localhost:1/x', ['localhost'])).toContain('cannot be reached');
    expect(await fetched('http://weather.example/x', ['weather.example'])).toContain('is not https');
  });
});
