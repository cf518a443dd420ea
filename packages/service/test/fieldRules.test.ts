/** Fields of collections with rules of their own: who may set them, besides who may write the record. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { listenTo, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: { id: string; token: string };
let warden: { id: string; token: string };
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  [runa, warden] = await Promise.all([signUp(test, app.dev.clientKey, 'runa'), signUp(test, app.dev.clientKey, 'warden')]);
  await test.owner.call(operations.users.patch, { params: { ...app.dev.params, user: warden.id }, body: { roles: ['warden'] } });
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: {
      name: 'bookings',
      fields: [
        { name: 'nights', type: 'integer' },
        { name: 'state', type: 'choice', choices: ['asked', 'confirmed'], default: 'asked', setBy: "A_CONTAINS(me('roles'), ('warden'))" },
        { name: 'open', type: 'boolean', setBy: 'open = TRUE' },
      ],
      rules: { read: 'TRUE', create: 'signed-in', update: 'TRUE' },
    } as never,
  });
});
afterAll(() => test.stop());

const call = (who: { token: string }, method: string, path: string, body: object) =>
  test.app(method, `/data/bookings${path}`, { key: app.dev.clientKey, token: who.token, body });
const book = async (more: object = {}) => (await call(runa, 'POST', '', { nights: 2, ...more })).body;

describe('a field with a rule of its own', () => {
  it('has its default where it is not set, and is set by those who fit the rule', async () => {
    const { id, state } = await book();
    expect(state).toBe('asked');
    const refused = await call(runa, 'PATCH', `/${id}`, { state: 'confirmed' });
    expect([refused.status, refused.body.detail]).toEqual([403, expect.stringContaining('The rule for setting `state` of `bookings`')]);
    expect((await call(warden, 'PATCH', `/${id}`, { state: 'confirmed' })).body.state).toBe('confirmed');
  });

  it('is not set by who creates the record, nor by a batch', async () => {
    expect((await call(runa, 'POST', '', { nights: 1, state: 'confirmed' })).status).toBe(403);
    const batch = await call(runa, 'POST', '/batch', { actions: [{ action: 'create', record: { nights: 1, state: 'confirmed' } }] });
    expect(batch.status).toBe(403);
    expect((await call(warden, 'POST', '', { nights: 1, state: 'confirmed' })).body.state).toBe('confirmed');
  });

  it('may be sent unchanged, and stays where a whole record is written without it', async () => {
    const { id } = await book();
    await call(warden, 'PATCH', `/${id}`, { state: 'confirmed' });
    expect((await call(runa, 'PATCH', `/${id}`, { nights: 3, state: 'confirmed' })).status).toBe(200);
    expect((await call(runa, 'PUT', `/${id}`, { nights: 4 })).body).toMatchObject({ nights: 4, state: 'confirmed' });
    expect((await call(runa, 'PUT', `/${id}`, { nights: 4, state: null })).status).toBe(403);
  });

  it('is judged by the record as it was: nobody lets themselves in by the same write', async () => {
    const { id } = await book();
    expect((await call(runa, 'PATCH', `/${id}`, { open: true })).status).toBe(403);
  });

  it('is set by servers and the team, whoever else may', async () => {
    const { id } = await book();
    const byServer = await test.app('PATCH', `/data/bookings/${id}`, { key: app.dev.serverKey, body: { state: 'confirmed', open: true } });
    expect(byServer.body).toMatchObject({ state: 'confirmed', open: true });
    expect((await call(runa, 'PATCH', `/${id}`, { open: false })).status).toBe(200);
  });

  it('keeps its rule in the schema, and the rule keeps the fields that it names', async () => {
    const schema = await test.owner.call(operations.collections.schema, { params: { ...app.dev.params, collection: 'bookings' } });
    expect(JSON.stringify(schema)).toContain('"orchardSetBy":"open = TRUE"');
    const add = (setBy: string) =>
      test.owner.call(operations.collections.patch, {
        params: { ...app.dev.params, collection: 'bookings' },
        body: { addFields: [{ name: 'extra', type: 'text', setBy }] } as never,
      });
    await expect(add('nightz > 2')).rejects.toMatchObject({
      problem: 'malformed-filter',
      detail: expect.stringContaining('The rule for setting `extra`'),
    });
    await add('nights > 2');
    const change = { change: 'rename', name: 'nights', to: 'evenings' };
    const preview = await test.owner.call(operations.collections.previewChange, {
      params: { ...app.dev.params, collection: 'bookings' },
      body: change as never,
    });
    expect(JSON.stringify(preview)).toContain('`extra`');
  });
});

describe('a field that only some may see', () => {
  const read = async (who: { token: string }, path: string) =>
    (await test.app('GET', path, { key: app.dev.clientKey, token: who.token })).body;
  let id: string;
  beforeAll(async () => {
    await test.owner.call(operations.collections.create, {
      params: app.dev.params,
      body: {
        name: 'reports',
        fields: [
          { name: 'text', type: 'text' },
          { name: 'phone', type: 'text', seenBy: "ownerId = me('id') OR A_CONTAINS(me('roles'), ('warden'))" },
          { name: 'level', type: 'integer', seenBy: 'FALSE' },
        ],
        rules: { read: 'TRUE', create: 'signed-in', update: 'TRUE' },
      } as never,
    });
    const sent = { text: 'slope moving', phone: '+1 555 0100', level: 4 };
    id = (await test.app('POST', '/data/reports', { key: app.dev.clientKey, token: runa.token, body: sent })).body.id;
  });

  it('is left out of what others read, list and follow, and of what a write answers', async () => {
    const mira = await signUp(test, app.dev.clientKey, 'mira');
    expect(await read(mira, `/data/reports/${id}`)).not.toHaveProperty('phone');
    expect(await read(runa, `/data/reports/${id}`)).toMatchObject({ phone: '+1 555 0100' });
    expect((await read(warden, '/data/reports')).items[0]).toMatchObject({ phone: '+1 555 0100' });
    expect((await read(mira, '/data/reports?fields=text,phone')).items[0]).toEqual({ id, version: 1, text: 'slope moving' });
    const [others, own] = await Promise.all(
      [mira, runa].map(({ token }) => listenTo(test.address, 'reports', { key: app.dev.clientKey, token })),
    );
    await Promise.all([others?.next('ready'), own?.next('ready')]);
    const answer = await test.app('PATCH', `/data/reports/${id}`, {
      key: app.dev.clientKey,
      token: mira.token,
      body: { text: 'still moving' },
    });
    expect(answer.body).not.toHaveProperty('phone');
    expect([(await others?.next('changed'))?.data, (await own?.next('changed'))?.data]).toEqual([
      { record: expect.not.objectContaining({ phone: expect.anything() }) },
      { record: expect.objectContaining({ phone: '+1 555 0100', text: 'still moving' }) },
    ]);
    others?.stop();
    own?.stop();
  });

  it('has nothing to filter, sort, group or count by for them', async () => {
    const mira = await signUp(test, app.dev.clientKey, 'mira-two');
    const found = (who: { token: string }, filter: string) => read(who, `/data/reports?${new URLSearchParams({ filter })}`);
    expect((await found(mira, "phone LIKE '+1%'")).items).toEqual([]);
    expect((await found(runa, "phone LIKE '+1%'")).items).toHaveLength(1);
    const summary = `/summaries/reports?${new URLSearchParams({ group: 'phone', measure: 'count,max:level' })}`;
    expect((await read(mira, summary)).groups).toEqual([{ phone: null, count: 1, 'max:level': null }]);
    expect((await read(warden, summary)).groups).toEqual([{ phone: '+1 555 0100', count: 1, 'max:level': null }]);
    expect((await read(mira, '/data/reports?sort=-phone')).items).toHaveLength(1);
  });

  it('stays where somebody replaces the record who does not see it, and is not theirs to take along', async () => {
    const mira = await signUp(test, app.dev.clientKey, 'mira-three');
    await test.app('PUT', `/data/reports/${id}`, { key: app.dev.clientKey, token: mira.token, body: { text: 'safe again' } });
    const whole = (await test.app('GET', `/data/reports/${id}`, { key: app.dev.serverKey })).body;
    expect(whole).toMatchObject({ text: 'safe again', phone: '+1 555 0100', level: 4 });
  });

  it('can be tried as anybody, and keeps out of a search index', async () => {
    const at = { params: { ...app.dev.params, collection: 'reports' } };
    const tried = (user: string, field: string) =>
      test.owner.call(operations.collections.tryRule, { ...at, body: { action: 'see', field, user, record: id } });
    expect(await tried(warden.id, 'phone')).toMatchObject({ allowed: true });
    expect(await tried(runa.id, 'level')).toMatchObject({ allowed: false, rule: 'FALSE' });
    await expect(tried(runa.id, 'fone')).rejects.toMatchObject({ problem: 'invalid-input' });
    const index = test.owner.call(operations.collections.addIndex, { ...at, body: { fields: ['phone'], search: true } });
    await expect(index).rejects.toMatchObject({ detail: expect.stringContaining('hidden from some') });
  });
});
