/** Signing in at providers that speak OpenID Connect or plain OAuth 2.0, with tokens that apps hand over, and what is kept of it. */
import { operations } from '@orchard/contract';
import {
  type IdentityFault,
  type IdTokenChanges,
  Offices,
  type OpenIdProvider,
  PAYMENT_CLIENT,
  PROVIDER_PASSWORD,
  PROVIDER_PEOPLE,
  type ProviderPerson,
  startOpenIdProvider,
} from '@orchard/simulators';
import { eq } from 'drizzle-orm';
import { afterAll, afterEach, beforeAll, describe, expect, inject, it } from 'vitest';
import { providerTokenTable } from '../src/people/providers/tables.js';
import { PageApp, PageBrowser } from './pageBrowser.js';
import { eventually, makeApp, PASSWORD, signUp, startTestService, type TestApp, type TestService } from './support.js';

const RETURN = 'quillfell://signed-in';
const [SIGNE, KENJI, MAREN] = PROVIDER_PEOPLE as [ProviderPerson, ProviderPerson, ProviderPerson];
let test: TestService;
let app: TestApp;
let provider: OpenIdProvider;
let base: string;
let page: PageApp;

const put = (way: string, body: object) =>
  test.owner.call(operations.signInWays.put, { params: { ...app.dev.params, way }, body: body as never });
const openid = (changes: object = {}) =>
  put('ridge', {
    title: 'The ridge',
    issuer: provider.issuer,
    clientId: provider.client.id,
    secret: provider.client.secret,
    scopes: ['openid', 'email', 'profile', 'offline_access'],
    roles: { wardens: 'warden' },
    ...changes,
  });
/** Tokens of another issuer, which is the same provider. */
const backend = () =>
  put('backend', {
    kind: 'tokens',
    title: 'Our backend',
    issuer: provider.issuer,
    audience: 'huts-api',
    keysAddress: `${provider.issuer}/jwks`,
  });
const environment = () => test.service.parts.directory.environment('quillfell-hiker', 'dev');

beforeAll(async () => {
  [test, provider] = await Promise.all([startTestService(inject('databaseUrl')), startOpenIdProvider()]);
  test.config.pushOrigins.push(provider.issuer);
  app = await makeApp(test, 'quillfell-hiker');
  base = `${test.address}/identity/quillfell-hiker/dev`;
  page = new PageApp(new URL(base), { clientId: 'hiker-ios', redirectUri: RETURN });
  await test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body: { redirects: { 'hiker-ios': [RETURN] } } });
  provider.allow((await openid()).redirectAddress as string);
});
afterEach(async () => {
  provider.fault('none');
  await openid();
});
afterAll(() => Promise.all([test.stop(), provider.stop()]));

/** At the provider, from where our page or an address has led to: back to ours. */
async function passProvider(browser: PageBrowser, there: string, { user }: ProviderPerson): Promise<string> {
  let { location, html } = await browser.open(there);
  while (location) {
    const next = new URL(location, provider.issuer).href;
    if (next.startsWith(base)) return next;
    const opened = await browser.open(next);
    ({ location, html } = opened);
    if (html.includes('name="password"')) ({ location } = await browser.post(next, { user, password: PROVIDER_PASSWORD }));
  }
  throw new Error(`The provider does not lead back: ${html.slice(0, 500)}`);
}
async function signIn(person: ProviderPerson, way = 'ridge') {
  const { browser } = await page.open();
  const there = await browser.open(`${base}/ways/${way}`);
  return browser.open(await passProvider(browser, there.location, person));
}
const withToken = (method: string, path: string, token: string, body?: object) =>
  test.app(method, path, { key: app.dev.clientKey, token, ...(body ? { body } : {}) });
async function signedIn(person: ProviderPerson, way?: string) {
  const { access_token: token } = await page.tokens((await signIn(person, way)).location);
  return { token, user: (await withToken('GET', '/users/me', token)).body };
}
const logged = async (words: string) => {
  const { items } = await test.owner.call(operations.log.list, {
    params: app.dev.params,
    query: { filter: "source = 'sign-in way ridge'", limit: 20 },
  });
  return items.some(({ text }) => text.includes(words));
};

describe('a provider of OpenID Connect', () => {
  it('signs people in, with the roles of their groups', async () => {
    const { user } = await signedIn(SIGNE);
    expect(user).toMatchObject({ email: SIGNE.email, name: SIGNE.name, roles: ['warden'] });
    expect((await signedIn(SIGNE)).user.id).toBe(user.id);
  });

  it('needs no discovery document', async () => {
    const endpoints = { authorize: `${provider.issuer}/auth`, token: `${provider.issuer}/token`, keys: `${provider.issuer}/jwks` };
    await openid({ endpoints });
    expect((await signedIn(SIGNE)).user.email).toBe(SIGNE.email);
  });

  it.each<[fault: IdentityFault]>([['wrong-signature'], ['changed-keys'], ['clock-off'], ['expired'], ['revoked']])(
    'with the fault %s lets nobody in',
    async (fault) => {
      await openid({ title: fault });
      provider.fault(fault);
      expect((await signIn(KENJI)).location).toBe('');
    },
  );

  it('is checked: a clock that is off is named', async () => {
    const check = () => test.owner.call(operations.signInWays.check, { params: { ...app.dev.params, way: 'ridge' }, body: {} });
    expect(await check()).toMatchObject({ ok: true });
    provider.fault('clock-off');
    const { ok, steps } = await check();
    expect([ok, steps.at(-1)?.text]).toEqual([false, expect.stringMatching(/The clock of the provider is 3\d\d\d s off/)]);
  });
});

describe('a way that is tried', () => {
  const begin = (way = 'ridge') => test.owner.call(operations.signInWays.tryOut, { params: { ...app.dev.params, way } });
  /** Each step as the page shows it: ✓ or ✗, its name, and the answer. */
  const stepsOf = (html: string) =>
    [...html.matchAll(/<dt[^>]*>(.) (.*?)<\/dt><dd>(.*?)<\/dd>/g)].map(([, ok, what, text]) => ({
      ok: ok ?? '',
      what: what ?? '',
      text: text ?? '',
    }));
  async function tried(person: ProviderPerson) {
    const browser = new PageBrowser();
    const first = await browser.open((await begin()).address);
    const there = await browser.open(`${base}/ways/ridge`);
    const { html } = await browser.open(await passProvider(browser, there.location, person));
    return { first: first.html, steps: stepsOf(html), html };
  }
  const people = async () => (await test.owner.call(operations.users.list, { params: app.dev.params, query: { limit: 100 } })).items.length;

  it('shows the answer of each step, and makes no account', async () => {
    provider.allow((await openid()).redirectAddress as string);
    const before = await people();
    const { first, steps } = await tried(MAREN);
    expect(first).toContain(`${base}/ways/ridge/return`);
    expect(steps.map(({ ok, what }) => ok + what)).toEqual(['✓return', '✓answer', '✓person', '✗groups']);
    await openid({ roles: {} });
    const again = await tried(MAREN);
    expect(again.steps.at(-1)).toEqual({ ok: '✓', what: 'account', text: `a new account with ${MAREN.email}` });
    expect(again.html).toContain('The way works.');
    expect(await people()).toBe(before);
  });

  it('says whom the person meets here, and which roles the groups give', async () => {
    await signedIn(SIGNE);
    const { steps } = await tried(SIGNE);
    expect(steps.map(({ text }) => text)).toEqual(
      expect.arrayContaining(['wardens, staff: gives the role warden', `signs in to ${SIGNE.email}, as before`]),
    );
  });

  it.each<[what: string, fault: IdentityFault, changes: object, words: string]>([
    ['a wrong secret', 'none', { secret: 'another' }, 'its secret'],
    ['a wrong signature', 'wrong-signature', { title: 'anew' }, 'The signature of the ID token is wrong'],
    ['keys that nobody knows', 'changed-keys', { title: 'changed' }, 'not by a key that the provider publishes'],
    ['a clock that is off', 'clock-off', { title: 'off' }, 'the clock of the provider is off'],
    ['an old token', 'expired', { title: 'old' }, 'a clock is off'],
  ])('with %s names the mistake', async (_what, fault, changes, words) => {
    await openid(changes);
    provider.fault(fault);
    expect((await tried(KENJI)).steps.at(-1)).toMatchObject({ ok: '✗', what: 'answer', text: expect.stringContaining(words) });
  });

  it('signs nobody in, leads to no other way, and is refused where nobody visits a provider', async () => {
    const browser = new PageBrowser();
    const request = new URL((await begin()).address).searchParams.get('request') ?? '';
    await browser.open((await begin()).address);
    expect((await browser.open(`${base}/ways/path`)).html).toContain('This trial is of the way ridge.');
    const form = { request, step: 'password', email: SIGNE.email, password: PASSWORD };
    expect((await browser.post(`${base}/authorize`, form)).status).toBe(400);
    await backend();
    await expect(begin('backend')).rejects.toMatchObject({ problem: 'wrong-state' });
  });

  it('by a token of another issuer is checked with one', async () => {
    await backend();
    const check = (token: string) =>
      test.owner.call(operations.signInWays.check, { params: { ...app.dev.params, way: 'backend' }, body: { token } });
    const { steps } = await check(await provider.idToken(KENJI, { audience: 'huts-api' }));
    expect(steps.map(({ ok, what }) => [ok, what])).toEqual(
      [['keys'], ['token'], ['person'], ['groups'], ['account']].map(([what]) => [true, what]),
    );
    expect((await check(await provider.idToken(KENJI, { audience: 'others' }))).steps.at(-1)?.text).toContain('for another audience than');
  });
});

it('OAuth 2.0 without OpenID Connect signs people in by what the provider says of them', async () => {
  const way = await put('path', {
    kind: 'oauth',
    title: 'The path',
    authorizeAddress: `${provider.issuer}/auth`,
    tokenAddress: `${provider.issuer}/token`,
    personAddress: provider.personAddress,
    clientId: provider.client.id,
    secret: provider.client.secret,
    scopes: ['openid'],
    claims: { id: 'number', email: 'contact', emailProved: 'verified', name: 'called' },
  });
  provider.allow(way.redirectAddress as string);
  expect((await signedIn(MAREN, 'path')).user).toMatchObject({ email: MAREN.email, name: MAREN.name });
  const { ok, steps } = await test.owner.call(operations.signInWays.check, { params: { ...app.dev.params, way: 'path' }, body: {} });
  expect([ok, steps.map(({ what }) => what)]).toEqual([true, ['addresses', 'person', 'address']]);
});

describe('a token that an app hands over', () => {
  const handOver = (token: string, way = 'ridge') => test.app('POST', '/sessions/token', { key: app.dev.clientKey, body: { way, token } });
  const nonce = async () =>
    (await test.app('POST', '/sign-in-nonces', { key: app.dev.clientKey, body: { way: 'ridge' } })).body.nonce as string;

  it('signs in once, when everything in it fits', async () => {
    await openid({ nativeClientIds: ['hiker-native'] });
    const token = await provider.idToken(KENJI, { nonce: await nonce(), audience: 'hiker-native' });
    expect(await handOver(token)).toMatchObject({ status: 201, body: { user: { email: KENJI.email } } });
    expect((await handOver(token)).status).toBe(401);
  });

  it.each<[what: string, changes: IdTokenChanges, words: string, fault?: IdentityFault]>([
    ['of another audience', { audience: 'somebody-else' }, 'for another audience than'],
    ['of several audiences, for another', { audience: ['quillfell-huts', 'other'], azp: 'other' }, '`azp` names none of ours'],
    ['of another issuer', { issuer: 'https://elsewhere.example' }, 'of another issuer than'],
    ['that is too old', { ageS: 3000 }, 'has expired, or is too old'],
    ['of the future', { ageS: -600 }, 'a clock is off'],
    ['with a wrong signature', {}, 'The signature of the token is wrong', 'wrong-signature'],
  ])('%s is refused, and the log says why', async (_what, changes, words, fault = 'none') => {
    provider.fault(fault);
    const { status, body } = await handOver(await provider.idToken(KENJI, { nonce: await nonce(), ...changes }));
    expect([status, body.type]).toEqual([401, '/docs/problems/sign-in-refused']);
    await eventually(() => logged(words));
  });

  it('without a nonce of ours, or that is no token, is refused', async () => {
    for (const token of [await provider.idToken(KENJI), await provider.idToken(KENJI, { nonce: 'mine' }), 'nonsense'])
      expect((await handOver(token)).status).toBe(401);
  });

  it('of another issuer signs in by its keys, for its audience alone', async () => {
    await backend();
    expect((await handOver(await provider.idToken(KENJI, { audience: 'huts-api' }), 'backend')).body.user.email).toBe(KENJI.email);
    expect((await handOver(await provider.idToken(KENJI), 'backend')).status).toBe(401);
  });
});

describe('what a provider hands out', () => {
  it('is exchanged for a token of a system behind, which the app never sees', async () => {
    const office = new Offices();
    await office.start();
    test.config.pushOrigins.push(office.address);
    await openid({ keepTokens: true });
    const { token, user } = await signedIn(SIGNE);
    const kept = await test.service.parts.ports.providerTokens.accessToken(await environment(), user.id, 'ridge');
    const params = app.dev.params;
    await test.owner.call(operations.functions.putSecret, {
      params: { ...params, secret: 'payment' },
      body: { value: PAYMENT_CLIENT.secret },
    });
    await test.owner.call(operations.upstreams.put, {
      params: { ...params, upstream: 'payments' },
      body: {
        address: `${office.address}/payments`,
        identify: {
          way: 'exchange',
          tokenAddress: `${office.address}/payments/token`,
          clientId: PAYMENT_CLIENT.id,
          secret: 'payment',
          provider: 'ridge',
        },
        operations: [{ name: 'prices', path: '/prices', callers: 'signed-in' }],
      },
    });
    const { body } = await withToken('GET', '/upstreams/payments/prices', token);
    expect([kept === null, body.owner]).toEqual([false, `user ${kept}`]);
    await withToken('DELETE', '/sessions/current', token);
    await office.stop();
  });

  it('is kept encrypted for functions, refreshed, and taken back with the last sign-out', async () => {
    await openid({ keepTokens: true });
    const { token, user } = await signedIn(SIGNE);
    expect(JSON.stringify(user)).not.toContain('Token');
    const { ports } = test.service.parts;
    const ofDev = await environment();
    const first = await ports.providerTokens.accessToken(ofDev, user.id, 'ridge');
    const table = ofDev.db.table(providerTokenTable);
    const [row] = await ofDev.db.orm.select().from(table).where(eq(table.userId, user.id));
    expect(row?.sealed).not.toContain(first);
    await ofDev.db.orm
      .update(table)
      .set({ refreshAt: new Date(0) })
      .where(eq(table.userId, user.id));
    await test.service.parts.outsideWays.tokens.refreshDue(ofDev);
    expect(provider.seen.refreshed).toBe(1);
    expect(await ports.providerTokens.accessToken(ofDev, user.id, 'ridge')).not.toBe(first);
    const others = (await withToken('GET', '/users/me/sessions', token)).body.items.filter(
      ({ isCurrent }: { isCurrent: boolean }) => !isCurrent,
    );
    for (const { id } of others) await withToken('DELETE', `/users/me/sessions/${id}`, token);
    const { revoked } = provider.seen;
    await withToken('DELETE', '/sessions/current', token);
    await eventually(
      async () => provider.seen.revoked === revoked + 1 && (await ports.providerTokens.accessToken(ofDev, user.id, 'ridge')) === null,
    );
  });
});

describe('an account at a provider', () => {
  const add = async (token: string, browser = new PageBrowser()) => {
    const { body } = await withToken('POST', '/users/me/provider-accounts', token, { way: 'ridge', redirectUri: RETURN });
    const asked = await browser.open(body.address);
    const [, there = ''] = /<a class="way" href="([^"]+)"/.exec(asked.html) ?? [];
    const { location } = await browser.open(new URL(there, test.address));
    return { ...(await browser.open(await passProvider(browser, location, KENJI))), asked: asked.html };
  };

  it('is added by who is signed in, listed, and removed; the last way in stays', async () => {
    const { user } = await signedIn(KENJI);
    await test.owner.call(operations.users.remove, { params: { ...app.dev.params, user: user.id } });
    const { token, email } = await signUp(test, app.dev.clientKey, 'runa');
    const added = await add(token);
    expect(added.asked).toContain(email);
    expect(added.location).toMatch(/^quillfell:\/\/signed-in\?added=ridge/);
    const { items, password } = (await withToken('GET', '/users/me/provider-accounts', token)).body;
    expect([items, password]).toMatchObject([[{ way: 'ridge', title: 'The ridge', account: KENJI.email }], true]);
    expect((await signedIn(KENJI)).user.email).toBe(email);
    expect((await withToken('DELETE', `/users/me/provider-accounts/${items[0].id}`, token)).status).toBe(204);
    expect((await signedIn(KENJI)).user.email).toBe(KENJI.email);
  });

  it('of somebody else is not added', async () => {
    await signedIn(KENJI);
    const { token } = await signUp(test, app.dev.clientKey, 'ivo');
    expect((await add(token)).location).toMatch(/error=access_denied.*another\+account/);
  });

  it('is added only to return to an address of the client, and its address signs nobody in', async () => {
    const { token, email } = await signUp(test, app.dev.clientKey, 'lise');
    const elsewhere = { way: 'ridge', redirectUri: 'https://elsewhere.example/' };
    expect((await withToken('POST', '/users/me/provider-accounts', token, elsewhere)).status).toBe(422);
    const { body } = await withToken('POST', '/users/me/provider-accounts', token, { way: 'ridge', redirectUri: RETURN });
    const browser = new PageBrowser();
    await browser.open(body.address);
    const request = new URL(body.address).searchParams.get('request') as string;
    const tried = await browser.post(`${base}/authorize`, { request, step: 'password', email, password: PASSWORD });
    expect([tried.status, tried.location]).toEqual([400, '']);
  });
});

it('a way is copied to another environment with its secret, for the clients that are there', async () => {
  await openid({ clients: ['hiker-ios', 'hiker-tablet'] });
  const copied = await test.owner.call(operations.signInWays.copy, {
    params: { ...app.live.params, way: 'slope' },
    body: { app: 'quillfell-hiker', environment: 'dev', way: 'ridge' },
  });
  expect(copied).toMatchObject({ name: 'slope', hasSecret: true, clients: ['hiker-ios'], clientId: provider.client.id });
  const again = test.owner.call(operations.signInWays.copy, {
    params: { ...app.live.params, way: 'slope' },
    body: { app: 'quillfell-hiker', environment: 'dev', way: 'ridge' },
  });
  await expect(again).rejects.toMatchObject({ problem: 'already-exists' });
});
