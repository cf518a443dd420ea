/** Members sign in to the console at providers outside, and have roles by the groups there. */
import { createHttpClient, operations } from '@orchard/contract';
import {
  type DirectoryServer,
  type OpenIdProvider,
  PROVIDER_PASSWORD,
  PROVIDER_PEOPLE,
  type ProviderPerson,
  type SamlProvider,
  startDirectory,
  startOpenIdProvider,
  startSamlProvider,
} from '@orchard/simulators';
import { TOTP } from 'otpauth';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { PageBrowser } from './pageBrowser.js';
import { makeApp, startTestService, type TestApp, type TestService } from './support.js';

const [SIGNE, KENJI, MAREN] = PROVIDER_PEOPLE as [ProviderPerson, ProviderPerson, ProviderPerson];
let test: TestService;
let app: TestApp;
let [openid, saml, directory] = [] as unknown as [OpenIdProvider, SamlProvider, DirectoryServer];
let base: string;

const put = (name: string, way: object, groups: object = {}) =>
  test.owner.call(operations.memberEntry.put, { params: { way: name }, body: { way, groups } as never });
const inDev = (role: string) => [{ app: 'quillfell-hiker', environment: 'dev', role }];

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  [openid, saml, directory] = await Promise.all([
    startOpenIdProvider(),
    startSamlProvider(),
    startDirectory({ authority: test.simulators.authority }),
  ]);
  test.config.pushOrigins.push(openid.issuer, 'ldaps://localhost');
  app = await makeApp(test, 'quillfell-hiker');
  base = `${test.address}/member-sign-in/ways`;
  const ridge = { title: 'The ridge', issuer: openid.issuer, clientId: openid.client.id, secret: openid.client.secret };
  await put('ridge', ridge, { wardens: inDev('developer'), staff: inDev('viewer') });
  openid.allow(`${base}/ridge/return`);
  await put('club', { kind: 'saml', title: 'The club', metadata: saml.metadata(), emailProved: true }, { wardens: inDev('viewer') });
});
afterAll(() => Promise.all([test.stop(), openid.stop(), saml.stop(), directory.stop()]));

/** At the ridge, as somebody: where our service leads then, and the cookie of the console. */
async function signIn({ user }: ProviderPerson) {
  const browser = new PageBrowser();
  let { location } = await browser.open(`${base}/ridge`);
  while (location && !location.startsWith(base)) {
    const at = new URL(location, openid.issuer).href;
    const opened = await browser.open(at);
    location = opened.html.includes('name="password"')
      ? (await browser.post(at, { user, password: PROVIDER_PASSWORD })).location
      : opened.location;
  }
  return { browser, ...(await browser.open(location)) };
}
const memberNamed = async (email: string) =>
  (await test.owner.call(operations.members.list, {})).items.find((member) => member.email === email);

it('the console offers what is set up, and owners alone see how', async () => {
  const { items } = await createHttpClient({ address: test.address }).call(operations.memberEntry.offered, {});
  expect(items).toEqual([
    { name: 'ridge', title: 'The ridge', isDirectory: false },
    { name: 'club', title: 'The club', isDirectory: false },
  ]);
  const [ridge] = (await test.owner.call(operations.memberEntry.list, {})).items;
  expect(ridge).toMatchObject({ way: { hasSecret: true, redirectAddress: `${base}/ridge/return` }, groups: { staff: inDev('viewer') } });
  expect(JSON.stringify(ridge)).not.toContain(openid.client.secret);
  const { ok } = await test.owner.call(operations.memberEntry.check, { params: { way: 'ridge' }, body: {} });
  expect(ok).toBe(true);
});

it('somebody of a group joins with its role, the highest of several, and is in the console', async () => {
  const { location, browser } = await signIn(SIGNE);
  expect(location).toBe('/');
  const session = JSON.parse((await browser.open(`${test.address}/manage/v1/session`)).html);
  expect(session).toMatchObject({ member: { email: SIGNE.email, name: SIGNE.name, owner: false } });
  expect((await memberNamed(SIGNE.email))?.roles).toMatchObject([{ environment: 'dev', role: 'developer' }]);
});

it('who is in no group is refused, and told what to do; who was invited is let in', async () => {
  const refused = await signIn(MAREN);
  expect(decodeURIComponent(refused.location)).toContain('none of your groups is let in');
  await test.owner.call(operations.members.add, {
    body: { email: MAREN.email, name: 'Maren', roles: [{ app: app.name, environment: 'dev', role: 'maintainer' }] },
  });
  expect((await signIn(MAREN)).location).toBe('/');
  expect(await memberNamed(MAREN.email)).toMatchObject({ joinedAt: expect.any(String), roles: [{ role: 'maintainer' }] });
});

it('roles follow the groups, and what was given by hand stays', async () => {
  await signIn(KENJI);
  const kenji = await memberNamed(KENJI.email);
  expect(kenji?.roles).toMatchObject([{ role: 'viewer' }]);
  await test.owner.call(operations.members.patch, {
    params: { member: kenji?.id as string },
    body: { roles: [{ app: app.name, environment: 'live', role: 'developer' }] } as never,
  });
  const { way } = (await test.owner.call(operations.memberEntry.list, {})).items[0] as { way: { title: string } };
  await put('ridge', { ...{ title: way.title, issuer: openid.issuer, clientId: openid.client.id } }, { wardens: inDev('developer') });
  await signIn(KENJI);
  expect((await memberNamed(KENJI.email))?.roles).toMatchObject([{ environment: 'live', role: 'developer' }]);
});

it('a member with a second factor needs it here, too', async () => {
  const { browser } = await signIn(SIGNE);
  const csrf = JSON.parse((await browser.open(`${test.address}/manage/v1/session`)).html).csrf as string;
  const call = async (path: string, body: object) => JSON.parse((await browser.send(`${test.address}/manage/v1${path}`, body, csrf)).html);
  const { id, secret } = await call('/second-factors/authenticators', { name: 'Phone' });
  const codeAt = (step: number) => new TOTP({ secret, digits: 6, period: 30 }).generate({ timestamp: Date.now() + step * 30_000 });
  await call(`/second-factors/authenticators/${id}/codes`, { code: codeAt(-1) });
  const { location } = await signIn(SIGNE);
  const [, ticket = ''] = /^\/second-factor#(.+)$/.exec(location) ?? [];
  const finish = (code: string) =>
    createHttpClient({ address: test.address }).call(operations.memberEntry.finish, { body: { ticket, code } });
  await expect(finish('000000')).rejects.toMatchObject({ problem: 'second-factor-refused' });
  expect((await finish(codeAt(0))).csrf).toBeTruthy();
});

it('by SAML and with a directory it is the same', async () => {
  saml.trust(await (await fetch(`${base}/club/metadata`)).text());
  const browser = new PageBrowser();
  const request = saml.read((await browser.open(`${base}/club`)).location);
  const fields = { SAMLResponse: await saml.respond(request, SIGNE), RelayState: request.relayState };
  const posted = await browser.post(`${base}/club/return`, fields, false);
  expect((await browser.open(posted.location)).location).toMatch(/^\/second-factor#/);
  const staff = {
    kind: 'directory',
    title: 'Staff',
    address: directory.address,
    trust: directory.trust,
    bindDn: directory.reader.dn,
    secret: directory.reader.password,
    base: directory.people,
    groups: { base: directory.groups },
    emailProved: true,
  };
  await put('staff', staff, { everybody: inDev('viewer') });
  const enter = (password: string) =>
    createHttpClient({ address: test.address }).call(operations.memberEntry.atDirectory, {
      body: { way: 'staff', user: 'kenji', password },
    });
  await expect(enter('wrong')).rejects.toMatchObject({ problem: 'sign-in-refused' });
  expect((await enter(PROVIDER_PASSWORD)).csrf).toBeTruthy();
});

it('is set up with places that there are', async () => {
  const wrong = put(
    'other',
    { title: 'x', issuer: openid.issuer, clientId: 'x' },
    { staff: [{ app: 'nowhere', environment: 'dev', role: 'viewer' }] },
  );
  await expect(wrong).rejects.toMatchObject({ problem: 'not-found' });
  await test.owner.call(operations.memberEntry.remove, { params: { way: 'club' } });
  expect((await test.owner.call(operations.memberEntry.list, {})).items.map(({ way }) => way.name)).toEqual(['ridge', 'staff']);
});
