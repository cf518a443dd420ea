/** Signing in with the password of a directory: OpenLDAP with a large number of people, and groups within groups in a circle. */
import { operations } from '@orchard/contract';
import { type DirectoryServer, PROVIDER_PASSWORD, startDirectory } from '@orchard/simulators';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { formOf, PageApp } from './pageBrowser.js';
import { makeApp, startTestService, type TestApp, type TestService } from './support.js';

const RETURN = 'quillfell://signed-in';
let test: TestService;
let app: TestApp;
let directory: DirectoryServer;

const put = (changes: object = {}, way = 'ridge') =>
  test.owner.call(operations.signInWays.put, {
    params: { ...app.dev.params, way },
    body: {
      kind: 'directory',
      title: 'The ridge',
      address: directory.address,
      trust: directory.trust,
      bindDn: directory.reader.dn,
      secret: directory.reader.password,
      base: directory.people,
      groups: { base: directory.groups },
      emailProved: true,
      roles: { wardens: 'warden', everybody: 'walker' },
      ...changes,
    } as never,
  });
const signIn = (user: string, password: string = PROVIDER_PASSWORD, way = 'ridge') =>
  test.app('POST', '/sessions/directory', { key: app.dev.clientKey, body: { way, user, password } });
const check = async (body: object = {}, way = 'ridge') =>
  test.owner.call(operations.signInWays.check, { params: { ...app.dev.params, way }, body });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  test.config.pushOrigins.push('ldaps://localhost', 'ldap://localhost');
  directory = await startDirectory({ authority: test.simulators.authority, more: 5_000 });
  app = await makeApp(test, 'quillfell-hiker');
  await put();
});
afterAll(() => Promise.all([test.stop(), directory.stop()]));

describe('somebody of a directory', () => {
  it('signs in with name and password, and has the roles of the groups, those of groups included', async () => {
    const { status, body } = await signIn('signe');
    expect(status).toBe(201);
    expect(body.user).toMatchObject({ email: 'signe@ridge.example', name: 'Signe Fell', roles: ['walker', 'warden'] });
    expect((await signIn('signe')).body.user.id).toBe(body.user.id);
  });

  it('keeps the roles that were given by hand', async () => {
    const { id } = (await signIn('kenji')).body.user;
    const params = { ...app.dev.params, user: id };
    await test.owner.call(operations.users.patch, { params, body: { roles: ['walker', 'guide'] } });
    expect((await signIn('kenji')).body.user.roles).toEqual(['guide', 'walker']);
    await put({ roles: {} });
    expect((await signIn('kenji')).body.user.roles).toEqual(['guide']);
    await put();
  });

  it.each([
    ['a wrong password', 'signe', 'wrong'],
    ['a name that nobody has', 'nobody', PROVIDER_PASSWORD],
    ['a name that is a filter', '*', PROVIDER_PASSWORD],
    ['a name that closes the filter', 'signe)(uid=*', PROVIDER_PASSWORD],
    ['a name with a null byte', 'signe\0', PROVIDER_PASSWORD],
  ])('is refused with %s, in the same words', async (_what, user, password) => {
    expect(await signIn(user, password)).toMatchObject({ status: 401, body: { detail: 'Name or password is wrong.' } });
  });

  it('cannot come without a password, which a directory would take for nobody in particular', async () => {
    expect((await signIn('signe', '')).status).toBe(422);
  });

  it('signs in on the page, too, whose fields say what they want', async () => {
    const issuer = new URL(`${test.address}/identity/quillfell-hiker/dev`);
    await test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body: { redirects: { 'hiker-ios': [RETURN] } } });
    const page = new PageApp(issuer, { clientId: 'hiker-ios', redirectUri: RETURN });
    const { browser, html } = await page.open();
    expect(html).toContain('The ridge');
    const asked = await browser.open(`${issuer}/ways/ridge`);
    expect(asked.html).toContain('User name');
    const { fields } = formOf(asked.html);
    const refused = await browser.post(`${issuer}/authorize`, { ...fields, user: 'signe', password: 'wrong' });
    expect([refused.status, refused.html.includes('User name or password is wrong.')]).toEqual([400, true]);
    const { location } = await browser.post(`${issuer}/authorize`, { ...fields, user: 'signe', password: PROVIDER_PASSWORD });
    expect((await page.tokens(location)).access_token).toMatch(/^ey/);
  });
});

describe('a directory', () => {
  it('is checked, alone and with somebody', async () => {
    expect(await check()).toMatchObject({
      ok: true,
      steps: [{ what: 'connection' }, { what: 'groups', text: expect.stringMatching(/^4 below/) }],
    });
    expect(await check({ user: 'signe', password: PROVIDER_PASSWORD })).toMatchObject({
      ok: true,
      steps: [
        { what: 'connection' },
        { what: 'person' },
        { what: 'groups', text: expect.stringContaining('gives the roles warden, walker') },
        { what: 'password' },
      ],
    });
  });

  it.each<[what: string, changes: object, words: string, body?: object]>([
    ['an account that may not search', { secret: 'wrong' }, 'name or password of the account that searches is wrong'],
    ['a certificate of an unknown authority', { trust: null }, 'is from an authority that is not known here'],
    ['a base that is not there', { base: 'ou=nowhere,dc=ridge,dc=example' }, 'has no ou=nowhere', { user: 'signe' }],
    ['a filter that fits nobody', { filter: '(mail={user})' }, 'fits nobody with the name signe', { user: 'signe' }],
    ['a filter that fits several', { filter: '(|(uid={user})(cn=*))' }, 'fits several people', { user: 'signe' }],
    [
      'a filter for groups that matches nobody',
      { groups: { base: 'ou=groups,dc=ridge,dc=example', filter: '(memberUid={dn})' } },
      'finds no group of signe, of 4 there are',
      { user: 'signe' },
    ],
    ['an address where nothing listens', { address: 'ldaps://localhost:9' }, 'Nothing listens at localhost:9'],
    ['a private address that is not allowed', { address: 'ldaps://127.0.0.2:9' }, 'is a private address'],
  ])('with %s has words for it', async (_what, changes, words, body) => {
    await put(changes, 'wrong');
    const { ok, steps } = await check(body, 'wrong');
    expect([ok, steps.at(-1)?.text]).toEqual([false, expect.stringContaining(words)]);
  });

  it('that speaks StartTLS is used with it, and none is used without TLS', async () => {
    await put({ address: directory.plainAddress }, 'plain');
    expect((await signIn('signe', PROVIDER_PASSWORD, 'plain')).status).toBe(201);
    await put({ address: directory.plainAddress, trust: null }, 'plain');
    expect((await signIn('signe', PROVIDER_PASSWORD, 'plain')).status).toBe(503);
  });

  it('that is away is said to be, and works again when it is back', async () => {
    await directory.freeze();
    expect(await signIn('signe')).toMatchObject({
      status: 503,
      body: { detail: expect.stringContaining('cannot be asked at the moment') },
    });
    directory.thaw();
    expect((await signIn('signe')).status).toBe(201);
  }, 60_000);

  it('does not let people guess at will', async () => {
    const codes = [];
    for (let i = 0; i < 12; i++) codes.push((await signIn('maren', `guess-${i}`)).status);
    expect(codes.slice(0, 8)).toEqual(Array(8).fill(401));
    expect(codes.at(-1)).toBe(429);
  });
});
