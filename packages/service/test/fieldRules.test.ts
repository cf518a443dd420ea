/** Fields of collections with rules of their own: who may set them, besides who may write the record. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

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
