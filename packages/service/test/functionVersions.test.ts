/** Versions of functions: some callers first, tests beside the code, schemas, trials of hooks, and what a function reaches besides records. */
import { operations, type Problem } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: { id: string; token: string };
let erik: { id: string; token: string };
const own = operations.functions;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  [runa, erik] = [await signUp(test, app.dev.clientKey, 'runa'), await signUp(test, app.dev.clientKey, 'erik')];
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: {
      name: 'huts',
      fields: [
        { name: 'name', type: 'text', required: true },
        { name: 'freeBunks', type: 'integer', min: 0 },
      ],
    } as never,
  });
});
afterAll(() => test.stop());

const at = (name: string) => ({ params: { ...app.dev.params, name } });
const put = (name: string, source: string, more: object = {}) =>
  test.owner.call(own.put, { ...at(name), body: { kind: 'endpoint', source, ...more } as never });
const refused = (work: Promise<unknown>): Promise<Problem> =>
  work.then(
    () => null as never,
    (error) => error,
  );
const said = async (path: string, user = runa, options: object = {}) =>
  (await test.app('POST', `/endpoints/${path}`, { key: app.dev.clientKey, token: user.token, body: {}, ...options })).body;
const anyMethod = { methods: ['POST'] };

describe('a version', () => {
  it('holds for named users first, then for a share, then for all', async () => {
    await put('look', `export default () => ({ body: { version: 1 } });`, anyMethod);
    await put('look', `export default () => ({ body: { version: 2 } });`, { ...anyMethod, use: false });
    await test.owner.call(own.use, { ...at('look'), body: { version: 2, users: [erik.id] } });
    expect([(await said('look', erik)).version, (await said('look')).version]).toEqual([2, 1]);
    expect((await test.owner.call(own.read, at('look'))).part).toEqual({ version: 2, users: [erik.id], share: 0 });
    const { items } = await test.owner.call(own.runs, at('look'));
    expect(items.map(({ version, userId }) => [version, userId]).sort()).toEqual(
      [
        [1, runa.id],
        [2, erik.id],
      ].sort(),
    );
    await test.owner.call(own.use, { ...at('look'), body: { version: 2, share: 0.5 } });
    const server = { key: app.dev.serverKey, token: undefined };
    const seen = await Promise.all(Array.from({ length: 60 }, () => said('look', runa, server)));
    expect(new Set(seen.map(({ version }) => version))).toEqual(new Set([1, 2]));
    const mine = await Promise.all(Array.from({ length: 10 }, () => said('look')));
    expect(new Set(mine.map(({ version }) => version)).size).toBe(1);
    await test.owner.call(own.use, { ...at('look'), body: { version: 2 } });
    expect([(await said('look')).version, (await test.owner.call(own.read, at('look'))).part]).toEqual([2, null]);
    await test.owner.call(own.use, { ...at('look'), body: { version: 0 } });
    expect((await refused(test.owner.call(own.use, { ...at('look'), body: { version: 1, share: 0.1 } }))).problem).toBe('wrong-state');
  });

  it('is refused when a test beside it fails, and tests leave nothing behind', async () => {
    const main = (free: number) => `
      const handler: Endpoint = async ({ body }, { records, refuse }) => {
        const hut = await records('huts').read(body.hut);
        if (hut.freeBunks! < ${free}) refuse('full');
        return { body: (await records('huts').change(hut.id, { _add: { freeBunks: -1 } })).freeBunks };
      };
      export default handler;`;
    const tests = `
      const given = { huts: [{ id: 'h1', name: 'Fellgate', freeBunks: 1 }] };
      test('the last bunk is given', { given, when: { body: { hut: 'h1' } }, then: async ({ answer }, { equal }, { records }) => {
        equal(answer, { body: 0 });
        equal((await records('huts').list()).items.length, 1);
      } });
      test('no bunk is left', { given: { huts: [{ id: 'h1', name: 'Fellgate', freeBunks: 0 }] }, when: { body: { hut: 'h1' } }, then: ({ refusal }, { equal }) => equal(refusal?.text, 'full') });`;
    const files = (free: number) => ({ ...anyMethod, source: undefined, files: { 'main.ts': main(free), 'main.test.ts': tests } });
    await put('bunk', '', files(1));
    const problem = await refused(put('bunk', '', files(0)));
    expect([problem.problem, problem.detail]).toEqual(['function-refused', expect.stringContaining('The test "no bunk is left" fails')]);
    expect((await test.owner.call(own.read, at('bunk'))).version).toBe(1);
    const { items } = await test.owner.call(operations.managedRecords.list, { params: { ...app.dev.params, collection: 'huts' } });
    expect(items).toEqual([]);
    expect(
      (
        await refused(
          put('bunk', '', {
            ...files(1),
            files: { 'main.ts': main(1), 'main.test.ts': `test('x', { given: { huts: [{ nmae: 'a' }] } });` },
          }),
        )
      ).detail,
    ).toContain('nmae');
  });

  it('can be checked without being saved, and knows what it may reach', async () => {
    const check = (source: string) =>
      test.owner.call(own.check, { ...at('checked'), body: { kind: 'endpoint', files: { 'main.ts': source } } });
    const { errors } = await check(`export default (async (_, { records }) => {\n  await records('hutz').list();\n}) as Endpoint;`);
    expect(errors).toEqual([{ file: 'main.ts', line: 2, column: 17, message: expect.stringContaining('hutz') }]);
    expect(await check('export default () => null;')).toEqual({ errors: [] });
    const { declarations } = await test.owner.call(own.reach, { params: app.dev.params });
    expect(declarations).toContain('freeBunks: number | null;');
    expect((await refused(test.owner.call(own.read, at('checked')))).problem).toBe('not-found');
  });

  it('takes bodies that follow its schema alone', async () => {
    const input = {
      type: 'object',
      required: ['nights'],
      properties: { nights: { type: 'integer', minimum: 1 } },
      additionalProperties: false,
    };
    await put('stay', `export default ({ body }) => ({ body: { nights: body.nights } });`, { ...anyMethod, input });
    expect(await said('stay', runa, { body: { nights: 2 } })).toEqual({ nights: 2 });
    const wrong = await said('stay', runa, { body: { nights: 0, more: 1 } });
    expect([wrong.status, wrong.fields.map(({ path }: { path: string }) => path).sort()]).toEqual([422, ['body.more', 'body.nights']]);
    expect(
      (await refused(put('stay', 'export default () => null;', { ...anyMethod, input: { type: 'wood' } }))).extras.fields?.[0]?.path,
    ).toBe('body.input');
    const { paths } = (await test.owner.call(own.document, { params: app.dev.params })) as never as { paths: Record<string, never> };
    expect(paths['/app/v1/endpoints/stay']).toMatchObject({
      post: { requestBody: { content: { 'application/json': { schema: input } } } },
    });
  });
});

describe('a trial', () => {
  it('of a hook shows its decision and what would join, and undoes all', async () => {
    await test.owner.call(own.put, {
      ...at('guard'),
      body: {
        kind: 'hook',
        on: { moment: 'before', collection: 'huts', actions: ['create'] },
        source: `const handler: BeforeWrite<'huts'> = async ({ record }, { records, refuse }) => {
          if (record!.name === 'bad') refuse('No such name.', { field: 'name' });
          await records('huts').create({ name: 'beside' });
          return { record: { freeBunks: 4 } };
        };
        export default handler;`,
        use: false,
      } as never,
    });
    const tried = (event: object, source?: string) =>
      test.owner.call(own.try, { ...at('guard'), body: { event, ...(source ? { source } : {}) } as never });
    await test.owner.call(own.use, { ...at('guard'), body: { version: 1 } });
    await test.owner.call(own.use, { ...at('guard'), body: { version: 0 } });
    const draft = `export default (({ record }, { refuse }) => record!.name === 'bad' ? refuse('No such name.', { field: 'name' }) : { record: { freeBunks: 4 } }) as BeforeWrite<'huts'>;`;
    expect(await tried({ action: 'create', record: { name: 'good' } }, draft)).toMatchObject({
      outcome: 'answered',
      answer: { record: { freeBunks: 4 } },
      changes: [],
    });
    expect(await tried({ action: 'create', record: { name: 'bad' } }, draft)).toMatchObject({
      outcome: 'refused',
      answer: { text: 'No such name.', field: 'name' },
    });
    const writing = `export default (async (_, { records }) => { const { id } = await records('huts').create({ name: 'beside' }); return { answer: { id2: id } }; }) as BeforeWrite<'huts'>;`;
    expect((await tried({ record: {} }, writing)).changes).toMatchObject([
      { call: 'records.create', collection: 'huts', after: { name: 'beside' } },
    ]);
  });

  it('of an endpoint sees in its lists what it wrote itself', async () => {
    await put('sees', `export default () => null;`, anyMethod);
    const source = `export default (async (_, { records }) => {
      await records('huts').create({ name: 'new' });
      return { body: (await records('huts').list()).items.map(({ name }) => name) };
    }) as Endpoint;`;
    expect(await test.owner.call(own.try, { ...at('sees'), body: { source } as never })).toMatchObject({ answer: { body: ['new'] } });
    expect(await test.owner.call(own.try, { ...at('sees'), body: { source } as never })).toMatchObject({ answer: { body: ['new'] } });
  });
});

describe('what a function can reach', () => {
  it('are users, several writes at once, channels and notifications', async () => {
    await test.owner.call(operations.channels.put, {
      params: { ...app.dev.params, channel: 'weather' },
      body: { rules: { listen: 'TRUE', publish: 'FALSE' } },
    });
    await put(
      'reaches',
      `
      const handler: Endpoint = async ({ caller }, { users, together, channels, notify }) => {
        const user = await users.read(caller.userId!);
        const { items } = await users.list({ limit: 1 });
        const { results } = await together([
          { action: 'create', collection: 'huts', record: { name: 'a' }, as: 'first' },
          { action: 'create', collection: 'huts', record: { name: 'b' } },
        ]);
        const half = await together([{ action: 'create', collection: 'huts', record: { name: 'c' } }, { action: 'create', collection: 'huts', record: {} }]).catch((e) => e.message);
        const published = await channels('weather').publish({ wind: 12 });
        const sent = await notify({ title: 'Storm', body: 'Stay inside.', audience: { users: [caller.userId] } }).catch((e) => e.message);
        return { body: { id: user.id, some: items.length, results: results.length, half, number: published.number, sent } };
      };
      export default handler;`,
      { ...anyMethod, rights: 'own' },
    );
    const body = await said('reaches');
    expect(body).toMatchObject({ id: runa.id, some: 1, results: 2, half: expect.stringContaining('invalid-input'), number: 1 });
    expect(typeof body.sent === 'object' ? body.sent.id : body.sent).toBeTruthy();
    const { items } = await test.owner.call(operations.managedRecords.list, {
      params: { ...app.dev.params, collection: 'huts' },
      query: { sort: 'name' },
    });
    expect(items.map(({ name }) => name)).toEqual(['a', 'b']);
  });
});
