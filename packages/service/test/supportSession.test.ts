/** A member looks at the app as a user, for support: marked, for a while, and without what only the owner of the account may do. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { makeApp, memberClient, PASSWORD, signUp, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let user: Awaited<ReturnType<typeof signUp>>;
let token: string;
let session: string;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  user = await signUp(test, app.dev.clientKey, 'runa');
  const params = { ...app.dev.params, user: user.id };
  const begun = await test.owner.call(operations.accounts.beginSupport, { params, body: { reason: 'Her booking does not show' } });
  expect(begun.client).toBe('hiker-ios');
  ({ accessToken: token, session } = begun);
});
afterAll(() => test.stop());
const call = (method: string, path: string, body?: object) =>
  test.app(method, path, { key: app.dev.clientKey, token, ...(body ? { body } : {}) });

it('sees what the user sees, and each response says who looks', async () => {
  const { status, headers, body } = await call('GET', '/users/me');
  expect([status, body.email]).toEqual([200, user.email]);
  expect(headers.get('orchard-support')).toMatch(/^[0-9a-f-]{36}$/);
});

it('does in its own name what it does', async () => {
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: { name: 'notes', fields: [{ name: 'text', type: 'text' }], rules: { create: 'TRUE', read: 'TRUE' } } as never,
  });
  const { status, body } = await call('POST', '/data/notes', { text: 'Looked at' });
  expect(status).toBe(201);
  const params = { ...app.dev.params, collection: 'notes', id: body.id };
  const { items } = await test.owner.call(operations.managedRecords.history, { params });
  expect(items).toMatchObject([{ action: 'create', by: { kind: 'member', name: 'Mira Quill' } }]);
});

it.each<[string, string, object?]>([
  ['PUT', '/users/me/password', { password: PASSWORD, newPassword: 'another-ridge-2' }],
  ['PUT', '/users/me/email', { password: PASSWORD, email: 'other@hikers.example' }],
  ['POST', '/users/me/phone', { number: '+12025550142' }],
  ['POST', '/users/me/authenticators', { password: PASSWORD }],
  ['POST', '/users/me/passkey-challenges', {}],
  ['POST', '/users/me/provider-accounts', { way: 'ridge', token: 'x' }],
  ['GET', '/users/me/export'],
])('may not %s %s', async (method, path, body) => {
  const answer = await call(method, path, body);
  expect(answer).toMatchObject({ status: 403, body: { detail: expect.stringContaining('Only the owner of the account') } });
});

it('is listed to the user, and in the audit with its reason, and its end is at once', async () => {
  const mine = await test.app('GET', '/users/me/sessions', { key: app.dev.clientKey, token: user.token });
  expect(mine.body.items.find(({ id }: { id: string }) => id === session)).toMatchObject({ support: true });
  const { items } = await test.owner.call(operations.audit.list, { query: { filter: "action = 'accounts.beginSupport'" } });
  expect(items).toHaveLength(1);
  expect(JSON.stringify(items)).toContain('Her booking does not show');
  expect(JSON.stringify(items)).not.toContain(token);
  const ended = await test.app('DELETE', `/users/me/sessions/${session}`, { key: app.dev.clientKey, token: user.token });
  expect([ended.status, (await call('GET', '/users/me')).status]).toEqual([204, 401]);
});

it('is for maintainers, and for nobody below', async () => {
  const member = { email: 'jonas@quillfell.example', name: 'Jonas Tarn', password: 'meadow-and-stream' };
  await test.owner.call(operations.members.add, {
    body: { ...member, roles: [{ app: app.name, environment: 'dev', role: 'developer' }] } as never,
  });
  const jonas = await memberClient(test.address, member);
  const asked = jonas.call(operations.accounts.beginSupport, { params: { ...app.dev.params, user: user.id }, body: { reason: 'curious' } });
  await expect(asked).rejects.toMatchObject({ problem: 'role-insufficient' });
});
