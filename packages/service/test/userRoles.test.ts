/** Roles of users: described, given by hand, by rule, and by groups, and each of them taken back where it came from. */
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, PASSWORD, startTestService, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const field = (name: string, body: object) =>
    test.owner.call(operations.accounts.defineField, { params: { ...app.dev.params, field: name }, body: body as never });
  await field('level', { type: 'integer', changedBy: 'servers' });
  await field('club', { type: 'text' });
});
afterAll(() => test.stop());

const put = (role: string, rule: string | null, description = '') =>
  test.owner.call(operations.userRoles.put, { params: { ...app.dev.params, role }, body: { rule, description } });
const list = async () => (await test.owner.call(operations.userRoles.list, { params: app.dev.params })).items;
const add = (email: string, more: object = {}) => ({ email, emailConfirmed: true, ...more });
async function importUsers(...users: object[]) {
  await test.owner.call(operations.accounts.importUsers, { params: app.dev.params, body: { users: users as never } });
}
const byEmail = async (email: string) =>
  (await test.owner.call(operations.users.list, { params: app.dev.params, query: { filter: `email = '${email}'` } })).items[0];
const rolesOf = async (email: string) => (await byEmail(email))?.roles;

describe('a role with a rule', () => {
  it('is had by those who fit it, also by those who were there before, and only as long as they do', async () => {
    await importUsers(add('runa@hikers.example', { data: { level: 4 } }), add('ivo@hikers.example', { data: { level: 1 } }));
    expect(await put('guide', 'level >= 3', 'Leads walks')).toMatchObject({ name: 'guide', description: 'Leads walks', isDefined: true });
    await eventually(async () => (await rolesOf('runa@hikers.example'))?.includes('guide'));
    expect(await rolesOf('ivo@hikers.example')).toEqual([]);
    const { id } = (await byEmail('runa@hikers.example')) as { id: string };
    const params = { ...app.dev.params, user: id };
    await test.owner.call(operations.users.patch, { params, body: { roles: ['guide', 'warden'] } });
    expect(await test.owner.call(operations.userRoles.ofUser, { params })).toEqual({ hand: ['warden'], ways: {}, rule: ['guide'] });
    expect((await test.owner.call(operations.users.patch, { params, body: { data: { level: 2 } } })).roles).toEqual(['warden']);
  });

  it('is had from the first sign-in on, and seen by rules of collections', async () => {
    await put('member', "email LIKE '%@quillfell.example'");
    await test.owner.call(operations.collections.create, {
      params: app.dev.params,
      body: { name: 'notes', fields: [{ name: 'text', type: 'text' }], rules: { read: "A_CONTAINS(me('roles'), ('member'))" } } as never,
    });
    const { body } = await test.app('POST', '/users', {
      key: app.dev.clientKey,
      body: { email: 'lise@quillfell.example', password: PASSWORD },
    });
    expect(body.user.roles).toEqual([]);
    const environment = await test.service.parts.directory.environment('quillfell-hiker', 'dev');
    await test.service.parts.userStore.update(environment, body.user.id, { emailConfirmedAt: new Date() });
    const again = await test.app('POST', '/sessions', {
      key: app.dev.clientKey,
      body: { email: 'lise@quillfell.example', password: PASSWORD },
    });
    expect(again.body.user.roles).toEqual(['member']);
    const records = await test.app('GET', '/data/notes', { key: app.dev.clientKey, token: again.body.accessToken });
    expect(records.status).toBe(200);
  });

  it('cannot ask what users change themselves, nor what there is not', async () => {
    await expect(put('guide', "club = 'north'")).rejects.toMatchObject({
      problem: 'malformed-filter',
      detail: expect.stringContaining('Users change `club` themselves, so it cannot give roles'),
    });
    await expect(put('guide', 'levle > 3')).rejects.toMatchObject({
      problem: 'malformed-filter',
      detail: expect.stringContaining('levle'),
    });
  });

  it('goes with its rule', async () => {
    await importUsers(add('orm@hikers.example', { data: { level: 9 }, roles: ['warden'] }));
    await put('guide', 'level >= 3');
    await eventually(async () => (await rolesOf('orm@hikers.example'))?.includes('guide'));
    await test.owner.call(operations.userRoles.remove, { params: { ...app.dev.params, role: 'guide' } });
    await eventually(async () => !(await rolesOf('orm@hikers.example'))?.includes('guide'));
    expect(await rolesOf('orm@hikers.example')).toEqual(['warden']);
  });
});

it('the list says how many have each role, which are not described, and which groups give one', async () => {
  await test.owner.call(operations.signInWays.put, {
    params: { ...app.dev.params, way: 'ridge' },
    body: { kind: 'openid', title: 'The ridge', issuer: 'https://id.ridge.example', clientId: 'huts', roles: { staff: 'member' } } as never,
  });
  const items = await list();
  expect(items.find(({ name }) => name === 'warden')).toMatchObject({ isDefined: false, users: 2, groups: [] });
  expect(items.find(({ name }) => name === 'member')).toMatchObject({
    isDefined: true,
    users: 1,
    groups: [{ way: 'ridge', group: 'staff' }],
  });
});
