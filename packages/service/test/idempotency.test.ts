/** Writes that are sent again with the same Idempotency-Key: answered once, the same way every time after. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { forgetAnswers } from '../src/platform/http/idempotency.js';
import type { Environment } from '../src/platform/call.js';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let environment: Environment;
let runa: Awaited<ReturnType<typeof signUp>>;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  environment = (await test.service.parts.directory.environment('quillfell-hiker', 'dev')) as Environment;
  runa = await signUp(test, app.dev.clientKey, 'runa');
});
afterAll(() => test.stop());

const store = (key: string, body: unknown, who: { key?: string; token?: string } = {}) =>
  test.app('POST', '/data/notes', { key: app.dev.serverKey, ...who, body, headers: { 'idempotency-key': key } });
const countNotes = async () => (await test.app('GET', '/data/notes?count=true', { key: app.dev.serverKey })).body.count as number;

describe('the same call again', () => {
  it('gets the same status, headers and body, and stores nothing more', async () => {
    const first = await store('first-call-1', { text: 'Snow on the col' });
    const before = await countNotes();
    const again = await store('first-call-1', { text: 'Snow on the col' });
    expect([again.status, again.text, again.headers.get('etag')]).toEqual([first.status, first.text, first.headers.get('etag')]);
    expect(await countNotes()).toBe(before);
  });

  it('at the same moment stores once, and both are answered the same', async () => {
    const before = await countNotes();
    const answers = await Promise.all(Array.from({ length: 8 }, () => store('at-once-1', { text: 'Fog' })));
    expect(new Set(answers.map(({ text }) => text)).size).toBe(1);
    expect(await countNotes()).toBe(before + 1);
  });

  it('after a refusal is tried again: a refusal is not kept', async () => {
    const { params } = app.dev;
    await test.owner.call(operations.collections.change, {
      params: { ...params, collection: 'notes' },
      query: {},
      body: { change: 'add', name: 'level', field: { type: 'integer', max: 5 } } as never,
    });
    expect((await store('refused-once', { text: 'x', level: 9 })).status).toBe(422);
    expect((await store('refused-once', { text: 'x', level: 4 })).status).toBe(201);
  });

  it('works for changes and deletions too', async () => {
    const id = (await store('to-change-1', { text: 'Thaw' })).body.id;
    const change = (body: unknown) =>
      test.app('PATCH', `/data/notes/${id}`, { key: app.dev.serverKey, body, headers: { 'idempotency-key': 'change-it-1' } });
    const [first, again] = [await change({ text: 'Frost' }), await change({ text: 'Frost' })];
    expect([first.body.version, again.body.version]).toEqual([2, 2]);
    const remove = () => test.app('DELETE', `/data/notes/${id}`, { key: app.dev.serverKey, headers: { 'idempotency-key': 'remove-it-1' } });
    expect([(await remove()).status, (await remove()).status]).toEqual([204, 204]);
  });
});

describe('a key', () => {
  it('for another call is refused, and nothing is stored', async () => {
    await store('another-call', { text: 'One' });
    const before = await countNotes();
    const other = await store('another-call', { text: 'Two' });
    expect([other.status, other.body.type]).toEqual([422, '/docs/problems/key-reused']);
    expect(await countNotes()).toBe(before);
  });

  it('is of its caller: another user, and another key, may use the same one', async () => {
    const body = { text: 'Mine' };
    const first = await store('shared-name', body);
    const user = await store('shared-name', body, { key: app.dev.clientKey, token: runa.token });
    expect(user.status).toBe(201);
    expect(user.body.id).not.toBe(first.body.id);
  });

  it.each([['short'], ['x'.repeat(201)], ['has a blank in it']])('must be 8 to 200 visible characters, not %j', async (key) => {
    const answer = await store(key, { text: 'x' });
    expect([answer.status, answer.body.fields[0].path]).toEqual([422, 'headers.Idempotency-Key']);
  });

  it('is kept for a day, and stands for a new call after that', async () => {
    const first = await store('for-a-day-1', { text: 'Day' });
    await forgetAnswers(environment, new Date(Date.now() - 3_600_000));
    expect((await store('for-a-day-1', { text: 'Day' })).body.id).toBe(first.body.id);
    await forgetAnswers(environment, new Date(Date.now() + 1_000));
    expect((await store('for-a-day-1', { text: 'Day' })).body.id).not.toBe(first.body.id);
  });
});
