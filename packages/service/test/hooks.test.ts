/** Hooks: the team's own code before and after writes of records, and on what reads find. */
import { type FunctionRun, operations } from '@orchard/contract';
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
  const rules = { create: 'TRUE', read: 'TRUE', update: 'TRUE', delete: 'TRUE' };
  const make = (name: string, fields: object[]) =>
    test.owner.call(operations.collections.create, { params: app.dev.params, body: { name, fields, rules } as never });
  await make('huts', [
    { name: 'name', type: 'text' },
    { name: 'freeBunks', type: 'integer', min: 0 },
  ]);
  await make('bookings', [
    { name: 'hut', type: 'reference', to: 'huts', onDelete: 'cascade' },
    { name: 'party', type: 'integer' },
    { name: 'state', type: 'text', setBy: "A_CONTAINS(me('roles'), ('warden'))" },
    { name: 'inner', type: 'text', hidden: true },
  ]);
  await make('notes', [
    { name: 'text', type: 'text' },
    { name: 'about', type: 'text', unique: true },
  ]);
  for (const id of ['fellgate', 'skarn']) await server('PUT', `huts/${id}`, { name: id, freeBunks: 10 });
});
afterAll(() => test.stop());

const at = (name: string) => ({ params: { ...app.dev.params, name } });
const names = new Set<string>();
type On = { moment?: string; collection?: string; actions: string[] };
const hook = async (name: string, on: On, source: string, more: object = {}) => {
  names.add(name);
  return test.owner.call(own.put, { ...at(name), body: { kind: 'hook', on: { moment: 'before', ...on }, source, ...more } as never });
};
/** Takes away what stands on records, so that each test has its own. */
const clear = async () => {
  for (const name of names) await test.owner.call(own.remove, at(name));
  names.clear();
};
const call = (method: string, path: string, body?: object, options: object = {}) =>
  test.app(method, `/data/${path}`, { key: app.dev.clientKey, token: runa.token, ...(body ? { body } : {}), ...options });
const server = (method: string, path: string, body?: object) => call(method, path, body, { key: app.dev.serverKey, token: undefined });
const runs = async (name: string): Promise<FunctionRun[]> => (await test.owner.call(own.runs, at(name))).items;
const freeIn = async (hut: string) => (await server('GET', `huts/${hut}`)).body.freeBunks;
const notes = async (about: string) =>
  (await server('GET', `notes?filter=${encodeURIComponent(`about LIKE '${about}%'`)}&sort=about`)).body.items;

describe('a hook before a write', () => {
  it('refuses it in the words of the team, under a field, and nothing is stored', async () => {
    await clear();
    await hook(
      'check',
      { collection: 'bookings', actions: ['create', 'update'] },
      `
      const handler: BeforeWrite<'bookings'> = ({ action, before, record, sent, caller }, { refuse }) => {
        if (record!.party! > 6) refuse('At most six to a party.', { field: 'party', status: 409 });
        if (action === 'update' && before!.party! > record!.party!) refuse(\`From \${before!.party} to \${record!.party}: \${Object.keys(sent)} by \${caller.kind}\`);
      };
      export default handler;`,
    );
    const refused = await call('POST', 'bookings', { party: 7 });
    expect(refused).toMatchObject({
      status: 409,
      body: { type: '/docs/problems/refused-by-function', detail: 'At most six to a party.', fields: [{ path: 'body.party' }] },
    });
    const { body } = await call('POST', 'bookings', { party: 4 });
    expect((await call('PATCH', `bookings/${body.id}`, { party: { _add: 5 } })).status).not.toBe(200);
    expect((await call('PATCH', `bookings/${body.id}`, { _add: { party: 5 } })).status).toBe(409);
    expect((await call('PATCH', `bookings/${body.id}`, { party: 2 })).body.detail).toBe('From 4 to 2: party by user');
    expect((await server('PUT', `bookings/${body.id}`, { party: 9 })).status).toBe(409);
    expect((await server('GET', `bookings/${body.id}`)).body).toMatchObject({ party: 4, version: 1 });
    const [run] = await runs('check');
    expect(run).toMatchObject({ outcome: 'refused', cause: expect.stringContaining('before update of bookings'), version: 1 });
    expect(run?.request).toMatch(/^[0-9a-f-]{36}$/);
  });

  it('sets fields that the caller may not, and adds members to the answer that are not stored', async () => {
    await clear();
    await hook(
      'fill',
      { collection: 'bookings', actions: ['create'] },
      `
      const handler: BeforeWrite<'bookings'> = ({ record }) => ({
        record: { state: 'reserved', inner: 'x' + record!.party },
        answer: { payAt: '/pay/here', id: 'never' },
      });
      export default handler;`,
    );
    expect((await call('POST', 'bookings', { party: 2, state: 'paid' })).status).toBe(201);
    const { status, body } = await call('POST', 'bookings', { party: 3 });
    expect([status, body.state, body.payAt, body.inner, body.id === 'never']).toEqual([201, 'reserved', '/pay/here', undefined, false]);
    const stored = (await server('GET', `bookings/${body.id}`)).body;
    expect([stored.state, stored.inner, 'payAt' in stored]).toEqual(['reserved', 'x3', false]);
    await clear();
    expect((await call('POST', 'bookings', { party: 2, state: 'paid' })).status).toBe(403);
  });

  it('writes more in the same transaction: all of it, or nothing', async () => {
    await clear();
    await hook(
      'bunks',
      { collection: 'bookings', actions: ['create'] },
      `
      const handler: BeforeWrite<'bookings'> = async ({ record }, { records }) => {
        const made = await records('notes').create({ text: 'booked', about: 'bunks ' + record!.party });
        await records('huts').change(record!.hut!, { _add: { freeBunks: -record!.party! } });
        return { answer: { note: made.id } };
      };
      export default handler;`,
      { rights: 'own' },
    );
    const { body } = await call('POST', 'bookings', { hut: 'fellgate', party: 3 });
    expect([await freeIn('fellgate'), (await notes('bunks 3')).map(({ id }: { id: string }) => id)]).toEqual([7, [body.note]]);
    // The bunks do not suffice: the booking and the note are not there either.
    const full = await call('POST', 'bookings', { hut: 'fellgate', party: 8 });
    expect([full.status, full.body.type]).toEqual([409, '/docs/problems/limit-passed']);
    expect([await freeIn('fellgate'), await notes('bunks 8')]).toEqual([7, []]);
    // The booking is refused by its own fields: nothing else is written.
    expect((await call('POST', 'bookings', { hut: 'nowhere', party: 1 })).status).not.toBe(201);
    expect(await notes('bunks 1')).toEqual([]);
    await server('PUT', 'huts/fellgate', { name: 'fellgate', freeBunks: 10 });
  });

  it('relies on the version it saw, and is asked again when the record changed meanwhile', async () => {
    await clear();
    await hook(
      'last',
      { collection: 'bookings', actions: ['create'] },
      `
      const handler: BeforeWrite<'bookings'> = async ({ record }, { records, rely, refuse }) => {
        const hut = await records('huts').read(record!.hut!);
        if (hut.freeBunks! < record!.party!) refuse('full');
        await rely('huts', hut.id, hut.version);
        await records('huts').change(hut.id, { freeBunks: hut.freeBunks! - record!.party! });
      };
      export default handler;`,
      { rights: 'own' },
    );
    await server('PUT', 'huts/skarn', { name: 'skarn', freeBunks: 3 });
    const tries = await Promise.all(Array.from({ length: 6 }, () => call('POST', 'bookings', { hut: 'skarn', party: 1 })));
    const stored = tries.filter(({ status }) => status === 201).length;
    expect(await freeIn('skarn')).toBe(3 - stored);
    expect(tries.filter(({ status }) => ![201, 412, 409, 422].includes(status)).map(({ text }) => text)).toEqual([]);
    expect(stored).toBeGreaterThan(0);
    await server('PUT', 'huts/skarn', { name: 'skarn', freeBunks: 10 });
  });

  it('stands in front of batches, imports and restored versions, too', async () => {
    await clear();
    await hook(
      'even',
      { collection: 'bookings', actions: ['create', 'update', 'delete'] },
      `
      export default (({ action, record, before }, { refuse }) => {
        if (action === 'delete' ? before!.party === 8 : record!.party! % 2) refuse('odd: ' + (record ?? before)!.party, { field: 'party' });
        return action === 'delete' ? null : { record: { inner: 'seen' } };
      }) as BeforeWrite<'bookings'>;`,
    );
    await server('PUT', 'bookings/eight', { party: 8 });
    const apart = await server('POST', 'bookings/batch', {
      together: false,
      actions: [
        { action: 'create', record: { id: 'one', party: 1 } },
        { action: 'create', record: { id: 'two', party: 2 } },
        { action: 'put', id: 'eight', record: { party: 6 } },
        { action: 'delete', id: 'eight' },
      ],
    });
    expect(apart.body.results.map(({ status }: { status: number }) => status)).toEqual([422, 201, 200, 422]);
    const together = await test.app('POST', '/batch', {
      key: app.dev.serverKey,
      body: {
        actions: [
          { action: 'create', collection: 'bookings', record: { party: 4 } },
          { action: 'patch', collection: 'bookings', id: 'two', record: { party: 3 } },
        ],
      },
    });
    expect([together.status, together.body.detail]).toEqual([422, expect.stringContaining('odd: 3')]);
    const imported = await test.owner.open(operations.collections.importRecords, {
      params: { ...app.dev.params, collection: 'bookings' },
      query: { format: 'csv' } as never,
      raw: 'id,party\nfour,4\nfive,5\n',
    });
    const report = await imported.json();
    expect(report).toMatchObject({ stored: 1, rejected: 1 });
    expect(JSON.stringify(report)).toContain('odd: 5');
    expect((await server('GET', 'bookings/four')).body).toMatchObject({ party: 4, inner: 'seen' });
    expect((await server('GET', 'bookings/five')).status).toBe(404);
  });

  it('fails without telling the caller why, and is stopped when it triggers hooks without end', async () => {
    await clear();
    await hook('broken', { collection: 'notes', actions: ['create'] }, `export default () => { throw new Error('larch'); };`);
    const broken = await call('POST', 'notes', { about: 'broken' });
    expect([broken.status, broken.text.includes('larch')]).toEqual([502, false]);
    expect((await runs('broken'))[0]).toMatchObject({ outcome: 'failed', error: expect.stringContaining('larch') });
    await hook(
      'broken',
      { collection: 'notes', actions: ['create'] },
      `const circle: any = {}; circle.self = circle; export default () => { throw circle; };`,
    );
    expect((await call('POST', 'notes', { about: 'broken' })).status).toBe(502);
    await hook('broken', { collection: 'notes', actions: ['create'] }, 'export default () => 7;');
    expect((await call('POST', 'notes', { about: 'broken' })).status).toBe(502);
    await hook('broken', { collection: 'notes', actions: ['create'] }, 'export default () => new Promise(() => undefined);');
    expect((await call('POST', 'notes', { about: 'broken' })).status).toBe(503);
    await clear();
    await hook(
      'selfish',
      { collection: 'notes', actions: ['update'] },
      `
      export default (async ({ id }, { records }) => { await records('notes').change(id!, { text: 'again' }); }) as BeforeWrite<'notes'>;`,
    );
    const note = (await server('POST', 'notes', { about: 'selfish', text: 'first' })).body;
    const deep = await call('PATCH', `notes/${note.id}`, { text: 'second' });
    expect([deep.status, deep.body.type]).toEqual([508, '/docs/problems/hooks-too-deep']);
    expect((await server('GET', `notes/${note.id}`)).body).toMatchObject({ text: 'first', version: 1 });
    await clear();
    await hook(
      'ping',
      { collection: 'notes', actions: ['create'] },
      `export default (async (_, { records }) => { await records('huts').create({ name: 'pong' }); }) as BeforeWrite<'notes'>;`,
    );
    await hook(
      'pong',
      { collection: 'huts', actions: ['create'] },
      `export default (async (_, { records }) => { await records('notes').create({ text: 'ping' }); }) as BeforeWrite<'huts'>;`,
    );
    expect((await call('POST', 'notes', { about: 'ping' })).status).toBe(508);
    expect(await notes('ping')).toEqual([]);
  });

  it('is not asked twice for one Idempotency-Key', async () => {
    await clear();
    await hook('once', { collection: 'notes', actions: ['create'] }, `export default () => ({ record: { text: 'by hook' } });`);
    const send = () => call('POST', 'notes', { about: 'once' }, { headers: { 'idempotency-key': 'hooks-are-asked-once' } });
    const [first, second] = [await send(), await send()];
    expect([first.status, second.status, second.body.id]).toEqual([201, 201, first.body.id]);
    expect(await runs('once')).toHaveLength(1);
  });

  it('tells nothing of a record to those who may not write it', async () => {
    await clear();
    await test.owner.call(operations.collections.create, {
      params: app.dev.params,
      body: { name: 'diaries', fields: [{ name: 'text', type: 'text' }] },
    });
    await server('PUT', 'diaries/hers', { text: 'secret' });
    await hook(
      'gossip',
      { collection: 'diaries', actions: ['update', 'delete'] },
      `export default (({ before }, { refuse }) => refuse('It says ' + before!.text)) as BeforeWrite<'diaries'>;`,
    );
    for (const method of ['PATCH', 'DELETE']) {
      const answer = await call(method, 'diaries/hers', method === 'PATCH' ? { text: 'mine' } : undefined);
      expect([answer.text.includes('It says'), answer.status]).toEqual([false, 403]);
    }
    expect(await runs('gossip')).toEqual([]);
  });
});

describe('a hook after a write', () => {
  it('runs once it is committed, with the record before and after, and what it is recorded by', async () => {
    await clear();
    await hook(
      'follow',
      { moment: 'after', collection: 'bookings', actions: ['create', 'update', 'delete'] },
      `
      const handler: AfterWrite<'bookings'> = async ({ action, id, before, record, key, attempt }, { records }) => {
        await records('notes').create({ text: [before?.party, record?.party, attempt, key.length].join(' '), about: \`follow \${id} \${action}\` });
      };
      export default handler;`,
      { rights: 'own' },
    );
    await call('PUT', 'bookings/followed', { party: 1 });
    await call('PATCH', 'bookings/followed', { _add: { party: 4 } });
    await server('DELETE', 'bookings/followed');
    const written = await eventually(async () => {
      const items = await notes('follow followed');
      return items.length === 3 ? items : undefined;
    });
    expect(written.map(({ text }: { text: string }) => text)).toEqual([' 1 1 36', '5  1 36', '1 5 1 36']);
    const history = await test.app('GET', `/history/notes/${written[0].id}`, { key: app.dev.serverKey });
    expect(history.body.items[0].by).toMatchObject({ kind: 'function', id: 'follow' });
    // Bookings that go with their hut are told as well.
    await server('PUT', 'huts/gone', { name: 'gone', freeBunks: 1 });
    await call('PUT', 'bookings/with-hut', { party: 1, hut: 'gone' });
    await server('DELETE', 'huts/gone');
    await eventually(async () => (await notes('follow with-hut delete'))[0]);
  });

  it('is retried with the same key, shows its attempts, and can be run again', async () => {
    await clear();
    await hook(
      'stubborn',
      { moment: 'after', collection: 'notes', actions: ['create'] },
      `
      export default (({ record, attempt }, { log }) => { log.info(record!.text); if (attempt < 2) throw new Error('not yet'); }) as AfterWrite<'notes'>;`,
    );
    await call('POST', 'notes', { text: 'try', about: 'stubborn' });
    const first = await eventually(async () => (await runs('stubborn'))[0]);
    expect(first).toMatchObject({
      attempt: 1,
      outcome: 'failed',
      error: expect.stringContaining('not yet'),
      cause: expect.stringContaining('after create of notes'),
    });
    const waiting = await test.owner.call(own.read, at('stubborn'));
    expect([waiting.waiting, waiting.lastOutcome]).toEqual([1, 'failed']);
    const second = await eventually(async () => (await runs('stubborn')).find(({ attempt }) => attempt === 2));
    expect([second.outcome, second.key]).toEqual(['answered', first.key]);
    const { key } = await test.owner.call(own.again, { params: { ...app.dev.params, name: 'stubborn', run: second.id } } as never);
    expect(key).not.toBe(first.key);
    await eventually(async () => (await runs('stubborn')).find((run) => run.key === key));
    await expect(
      test.owner.call(own.again, { params: { ...app.dev.params, name: 'stubborn', run: runa.id } } as never),
    ).rejects.toMatchObject({ problem: 'not-found' });
  });

  it('that writes what it stands on ends after some rounds', async () => {
    await clear();
    await hook(
      'round',
      { moment: 'after', collection: 'notes', actions: ['create'] },
      `
      export default (async ({ record, depth }, { records }) => { await records('notes').create({ text: 'more', about: record!.about + '+' }); }) as AfterWrite<'notes'>;`,
    );
    await call('POST', 'notes', { about: 'round' });
    const failed = await eventually(async () => (await runs('round')).find(({ outcome }) => outcome === 'failed'));
    expect(failed.error).toContain('hooks-too-deep');
    expect((await notes('round')).length).toBe(5);
    expect(await eventually(async () => ((await test.owner.call(own.read, at('round'))).waiting === 0 ? 'none waits' : undefined))).toBe(
      'none waits',
    );
  });
});

describe('a hook on reads', () => {
  it('narrows lists, single reads, summaries, includes and live streams alike, but not for servers', async () => {
    await clear();
    await server('PUT', 'huts/draft', { name: 'draft', freeBunks: 0 });
    await server('PUT', 'bookings/of-draft', { hut: 'draft', party: 2 });
    await hook(
      'no-drafts',
      { collection: 'huts', actions: ['list', 'read'] },
      `
      const handler: BeforeRead = ({ action, query }) => ({ filter: "name <> 'draft'", ...(query.sort ? {} : { sort: '-name' }), limit: 2 });
      export default handler;`,
    );
    const list = await call('GET', 'huts');
    expect(list.body.items.map(({ name }: { name: string }) => name)).toEqual(
      ['skarn', 'pong'].filter((name) => name !== 'pong').concat('fellgate'),
    );
    expect((await call('GET', 'huts/draft')).status).toBe(403);
    expect((await call('GET', 'huts/skarn')).status).toBe(200);
    expect((await server('GET', 'huts/draft')).status).toBe(200);
    const summary = await test.app('GET', '/summaries/huts?group=name', { key: app.dev.clientKey });
    expect(JSON.stringify(summary.body)).not.toContain('draft');
    const included = await call('GET', 'bookings/of-draft?include=hut');
    expect(included.body._included).toEqual({ hut: null });
    const through = await call('GET', `bookings?filter=${encodeURIComponent("hut.name = 'draft'")}`);
    expect(through.body.items).toEqual([]);
    const live = await fetch(`${test.address}/app/v1/live/huts`, { headers: { 'orchard-key': app.dev.clientKey } });
    const reader = live.body?.getReader();
    const decoder = new TextDecoder();
    let heard = '';
    while (!heard.includes('ready')) heard += decoder.decode((await reader?.read())?.value);
    await server('PATCH', 'huts/draft', { freeBunks: 1 });
    await server('PATCH', 'huts/skarn', { freeBunks: 9 });
    while (!heard.includes('skarn')) heard += decoder.decode((await reader?.read())?.value);
    expect(heard).not.toContain('draft');
    await reader?.cancel();
    await hook('no-drafts', { collection: 'huts', actions: ['list'] }, `export default () => ({ filter: 'nmae = 1' });`);
    expect((await call('GET', 'huts')).status).toBe(502);
    expect((await runs('no-drafts'))[0]?.outcome).toBe('answered');
  });

  it('reshapes what reads and lists answer', async () => {
    await clear();
    await hook(
      'shape',
      { moment: 'answer', collection: 'huts', actions: ['read', 'list'] },
      `
      const handler: Reshape<'huts'> = ({ items }) => ({ items: items.map(({ name, freeBunks }) => ({ name: name!.toUpperCase(), full: freeBunks === 0, id: 'x' })) });
      export default handler;`,
    );
    const { body } = await call('GET', 'huts/skarn');
    expect(body).toEqual({ name: 'SKARN', full: false, id: 'skarn', version: body.version });
    expect((await call('GET', 'huts?sort=name')).body.items.map(({ name }: { name: string }) => name)).toContain('FELLGATE');
  });
});

it('says what is wrong with where a hook is to stand', async () => {
  await clear();
  const refused = (on: object) =>
    test.owner
      .call(own.put, { ...at('wrong'), body: { kind: 'hook', on, source: 'export default () => null;' } as never })
      .catch((error) => error);
  expect((await refused({ moment: 'before', collection: 'hutz', actions: ['create'] })).detail).toContain('There is no collection `hutz`');
  expect((await refused({ moment: 'after', collection: 'huts', actions: ['list'] })).extras.fields[0].problem).toContain(
    'nothing follows a read',
  );
  expect((await refused({ moment: 'answer', collection: 'huts', actions: ['create'] })).extras.fields[0].problem).toContain(
    'can be reshaped',
  );
  expect((await refused({ moment: 'before', actions: ['create'] })).extras.fields[0].problem).toContain('It is required.');
  const both = {
    kind: 'endpoint',
    path: 'x',
    on: { moment: 'before', collection: 'huts', actions: ['create'] },
    source: 'export default () => null;',
  };
  expect(
    (await test.owner.call(own.put, { ...at('wrong'), body: both as never }).catch((error) => error)).extras.fields[0].problem,
  ).toContain('belongs to the kind hook');
});

describe('a hook on something else', () => {
  type Subject = { moment?: string; subject: string; actions: string[] };
  const stand = (name: string, on: Subject, source: string, more: object = {}) => hook(name, on as never, source, more);

  it('changes or refuses users before they are created, and follows them', async () => {
    await clear();
    await stand(
      'names',
      { subject: 'users', actions: ['create', 'update'] },
      `const handler: BeforeAction = ({ action, value, id, caller }, { refuse }) => {
        if (value.name === 'Nobody') refuse('Choose another name.', { field: 'name', status: 409 });
        if ('password' in value) refuse('It sees the password.');
        return value.name ? { value: { name: value.name.trim() + (action === 'update' ? ' II' : '') } } : null;
      };
      export default handler;`,
    );
    await stand(
      'greet',
      { moment: 'after', subject: 'users', actions: ['create', 'update', 'delete'] },
      `export default (async ({ action, id, value, key }, { records }) => { await records('notes').create({ text: value.name ?? '', about: \`greet \${action} \${id}\` }); }) as AfterAction;`,
      { rights: 'own' },
    );
    const signUpAs = (name: string) =>
      test.app('POST', '/users', { key: app.dev.clientKey, body: { email: 'tove@quillfell.example', password: 'ridge-and-river', name } });
    expect(await signUpAs('Nobody')).toMatchObject({ status: 409, body: { detail: 'Choose another name.' } });
    const { status, body } = await signUpAs(' Tove ');
    expect([status, body.user.name]).toEqual([201, 'Tove']);
    const patched = await test.app('PATCH', '/users/me', { key: app.dev.clientKey, token: body.accessToken, body: { name: 'Tove' } });
    expect(patched.body.name).toBe('Tove II');
    await test.owner.call(operations.users.remove, { params: { ...app.dev.params, user: body.user.id } });
    const greeted = await eventually(async () => {
      const items = await notes('greet');
      return items.length === 3 ? items : undefined;
    });
    expect(greeted.map(({ about, text }: { about: string; text: string }) => [about.split(' ')[1], text])).toEqual([
      ['create', 'Tove'],
      ['delete', ''],
      ['update', 'Tove II'],
    ]);
    expect((await runs('greet'))[0]?.request).toMatch(/^[0-9a-f-]{36}$/);
  });

  it('stands before devices, notifications and events, and cannot write there', async () => {
    await clear();
    await stand(
      'devices',
      { subject: 'devices', actions: ['create'] },
      `export default (({ value, refuse }: any, reach) => { if (value.platform === 'web') reach.refuse('No browsers.'); }) as BeforeAction;`,
    );
    await stand(
      'sent',
      { subject: 'notifications', actions: ['create'] },
      `export default (({ value }) => ({ value: { title: value.title + '!' } })) as BeforeAction;`,
    );
    await stand(
      'events',
      { subject: 'events', actions: ['create'] },
      `export default (async (_, { records, refuse }) => { try { await records('notes').create({ text: 'x' }); } catch (error) { refuse(error.message); } }) as BeforeAction;`,
    );
    const device = { platform: 'web', appVersion: '1.0', os: 'Ember 4', locale: 'en', timeZone: 'UTC', permission: 'denied' };
    const registered = (id: string, platform: string) =>
      test.app('PUT', `/devices/${id}`, { key: app.dev.clientKey, token: runa.token, body: { ...device, platform } });
    expect(await registered('browser-1', 'web')).toMatchObject({ status: 422, body: { detail: 'No browsers.' } });
    expect((await registered('telephone-1', 'ios')).status).toBe(201);
    const draft = await test.app('POST', '/notifications', {
      key: app.dev.serverKey,
      body: { title: 'Storm', body: 'x', audience: { users: [runa.id] }, draft: true },
    });
    expect([draft.status, draft.body.title], draft.text).toEqual([202, 'Storm!']);
    const events = await test.app('POST', '/events', {
      key: app.dev.clientKey,
      body: { sentAt: new Date().toISOString(), events: [{ id: 'e1' }] },
    });
    expect([events.status, events.body.detail]).toEqual([422, expect.stringContaining('Write in a hook after the action')]);
  });
});
