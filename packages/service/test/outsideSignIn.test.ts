/** Signing in at a provider outside: another environment of this service plays it, by the same protocol. */
import { operations } from '@orchard/contract';
import * as client from 'openid-client';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, PASSWORD, startTestService, type TestApp, type TestService } from './support.js';

const RETURN = 'quillfell://signed-in';
let test: TestService;
let app: TestApp;
let [ours, theirs]: URL[] = [];
let number = 0;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  test.config.pushOrigins.push(test.address);
});
afterAll(() => test.stop());

const put = (body: object, way = 'ridge') =>
  test.owner.call(operations.signInWays.put, { params: { ...app.dev.params, way }, body: body as never });
const check = async (way = 'ridge') => test.owner.call(operations.signInWays.check, { params: { ...app.dev.params, way }, body: {} });
const rules = (params: { app: string; environment: string }, body: object) =>
  test.owner.call(operations.accounts.changeRules, { params, body });
beforeEach(async () => {
  app = await makeApp(test, `hiker-${++number}`);
  ours = new URL(`${test.address}/identity/${app.name}/dev`);
  theirs = new URL(`${test.address}/identity/${app.name}/live`);
  await rules(app.dev.params, { redirects: { 'hiker-ios': [RETURN] } });
  const { redirectAddress } = await put({ title: 'Sign in at the ridge', issuer: theirs.href, clientId: 'huts' });
  await rules(app.live.params, { redirects: { huts: [redirectAddress] } });
});

/** The account at the provider; confirmed, unless said otherwise. */
async function outsideAccount(email: string, confirmed = true): Promise<void> {
  const users = [{ email, name: 'Runa of the ridge', emailConfirmed: confirmed }];
  await test.owner.call(operations.accounts.importUsers, { params: app.live.params, body: { users } });
  const { items } = await test.owner.call(operations.users.list, { params: app.live.params, query: { filter: `email = '${email}'` } });
  const { db } = await test.service.parts.directory.environment(app.name, 'live');
  const user = await test.service.parts.userStore.find({ db } as never, items[0]?.id as string);
  await test.service.parts.userSessions.setPassword({ db, app: app.name } as never, user as never, PASSWORD, 'x', null);
}

/** A browser: it keeps the cookies of each path, and follows nothing by itself. */
class Browser {
  readonly #cookies = new Map<string, string>();

  async open(url: URL | string, init: RequestInit = {}) {
    const { pathname } = new URL(url);
    const cookie = [...this.#cookies].filter(([path]) => pathname.startsWith(path)).map(([, value]) => value);
    const reply = await fetch(url, { redirect: 'manual', ...init, headers: { cookie: cookie.join('; ') } });
    const [, value, path] = /^([^;]+); Path=([^;]+)/.exec(reply.headers.get('set-cookie') ?? '') ?? [];
    if (value && path) this.#cookies.set(path, value);
    return { status: reply.status, html: await reply.text(), location: reply.headers.get('location') ?? '' };
  }

  /** From our page to the provider, through its sign-in, and back: what our page answers then. */
  async signIn(email: string) {
    const there = await this.open(`${ours}/ways/ridge`);
    const page = await this.open(there.location);
    const request = /name="request" value="([^"]*)"/.exec(page.html)?.[1] ?? '';
    const body = new URLSearchParams({ request, step: 'password', email, password: PASSWORD });
    const back = await this.open(`${theirs}/authorize`, { method: 'POST', body });
    return { back: back.location, ...(await this.open(back.location)) };
  }
}

const verifier = client.randomPKCECodeVerifier();
async function ourPage(browser = new Browser()): Promise<{ browser: Browser; html: string }> {
  const config = await client.discovery(ours as URL, 'hiker-ios', undefined, client.None(), { execute: [client.allowInsecureRequests] });
  const code_challenge = await client.calculatePKCECodeChallenge(verifier);
  const url = client.buildAuthorizationUrl(config, {
    redirect_uri: RETURN,
    scope: 'openid email profile',
    code_challenge,
    code_challenge_method: 'S256',
    state: 's',
  });
  return { browser, html: (await browser.open(url)).html };
}
async function tokensOf(location: string) {
  const code = new URL(location).searchParams.get('code') ?? '';
  const form = { grant_type: 'authorization_code', client_id: 'hiker-ios', redirect_uri: RETURN, code, code_verifier: verifier };
  return (await fetch(`${ours}/token`, { method: 'POST', body: new URLSearchParams(form) })).json() as Promise<{ access_token: string }>;
}
const me = async (location: string) =>
  (await test.app('GET', '/users/me', { key: app.dev.clientKey, token: (await tokensOf(location)).access_token })).body;

describe('somebody who signs in at a provider', () => {
  it('gets an account with the address that the provider has proved, and the same one next time', async () => {
    await outsideAccount('runa@ridge.example');
    const { browser, html } = await ourPage();
    expect(html).toContain('Sign in at the ridge');
    const first = await me((await browser.signIn('runa@ridge.example')).location);
    expect(first).toMatchObject({ email: 'runa@ridge.example', name: 'Runa of the ridge', emailConfirmedAt: expect.any(String) });
    const again = await ourPage();
    expect((await me((await again.browser.signIn('runa@ridge.example')).location)).id).toBe(first.id);
    await test.app('POST', '/users', { key: app.dev.clientKey, body: { email: 'ivo@ridge.example', password: PASSWORD } });
    const by = async (way: string) => {
      const query = { filter: `A_CONTAINS(ways, ('${way}'))` };
      return (await test.owner.call(operations.users.list, { params: app.dev.params, query })).items.map(({ email }) => email);
    };
    expect([await by('ridge'), await by('password'), await by('elsewhere')]).toEqual([['runa@ridge.example'], ['ivo@ridge.example'], []]);
  });

  it('gets the account that has the address only when both have proved it', async () => {
    await outsideAccount('runa@ridge.example');
    const { body: own } = await test.app('POST', '/users', {
      key: app.dev.clientKey,
      body: { email: 'runa@ridge.example', password: PASSWORD },
    });
    const { browser } = await ourPage();
    expect((await browser.signIn('runa@ridge.example')).html).toContain('There is an account with this address already.');
    const environment = await test.service.parts.directory.environment(app.name, 'dev');
    await test.service.parts.userStore.update(environment, own.user.id, { emailConfirmedAt: new Date() });
    const again = await ourPage();
    expect((await me((await again.browser.signIn('runa@ridge.example')).location)).id).toBe(own.user.id);
  });

  it('whose address the provider has not proved gets an account without it', async () => {
    await outsideAccount('ivo@ridge.example', false);
    const { browser } = await ourPage();
    expect(await me((await browser.signIn('ivo@ridge.example')).location)).toMatchObject({ email: null, name: 'Runa of the ridge' });
  });

  it('is refused where nobody may sign up, and in another browser than the one that began', async () => {
    await outsideAccount('runa@ridge.example');
    await rules(app.dev.params, { signUp: 'closed' });
    const closed = await ourPage();
    expect((await closed.browser.signIn('runa@ridge.example')).html).toContain('not possible here');
    await rules(app.dev.params, { signUp: 'open' });
    const { browser } = await ourPage();
    const victim = await ourPage();
    const there = await browser.open(`${ours}/ways/ridge`);
    const state = new URL(there.location).searchParams.get('state');
    const stolen = await victim.browser.open(
      `${ours}/ways/ridge/return?code=x&state=${state}&iss=${encodeURIComponent((theirs as URL).href)}`,
    );
    expect([stolen.status, stolen.location]).toEqual([400, '']);
    await eventually(async () => {
      const query = { filter: "source = 'sign-in way ridge'" };
      const { items } = await test.owner.call(operations.log.list, { params: app.dev.params, query });
      return items.some(({ text }) => text.includes('not begun in this browser'));
    });
  });

  it('answered by another provider than was asked, or with the code of somebody else, is refused', async () => {
    await outsideAccount('runa@ridge.example');
    const answers: Record<string, string>[] = [
      { code: 'x', iss: 'https://evil.example' },
      { code: 'not-a-code', iss: (theirs as URL).href },
      { error: 'access_denied', iss: (theirs as URL).href },
    ];
    for (const parameters of answers) {
      const { browser } = await ourPage();
      const there = await browser.open(`${ours}/ways/ridge`);
      const state = new URL(there.location).searchParams.get('state') ?? '';
      const { status, html } = await browser.open(`${ours}/ways/ridge/return?${new URLSearchParams({ ...parameters, state })}`);
      expect([status, html.includes('not possible here')]).toEqual([400, true]);
    }
  });
});

describe('a provider', () => {
  it('is checked step by step, and the mistakes people make have words', async () => {
    expect(await check()).toMatchObject({
      ok: true,
      steps: [{ what: 'metadata' }, { what: 'scopes' }, { what: 'keys' }, { what: 'address' }],
    });
    const words = async (changes: object) => {
      await put({ title: 'x', issuer: (theirs as URL).href, clientId: 'huts', ...changes }, 'wrong');
      return (await check('wrong')).steps.at(-1)?.text;
    };
    expect(await words({ issuer: `${theirs}/` })).toContain('calls itself another issuer');
    expect(await words({ issuer: test.address })).toContain('No OpenID provider answers at');
    expect(await words({ issuer: 'http://ridge.example' })).toContain('no https address');
    expect(await words({ scopes: ['openid', 'bunks'] })).toContain('does not know the scopes bunks');
    expect(await words({ scopes: ['email'] })).toContain('openid is missing');
  });

  it('is of chosen clients, keeps its secret, and is taken away', async () => {
    const way = { title: 'Ridge', issuer: (theirs as URL).href, clientId: 'huts' };
    expect(await put({ ...way, secret: 'a-secret-of-the-ridge', clients: ['hiker-web'] })).toMatchObject({ hasSecret: true });
    expect((await ourPage()).html).not.toContain('Ridge');
    expect(JSON.stringify(await put(way))).not.toContain('a-secret');
    const { items } = await test.owner.call(operations.signInWays.list, { params: app.dev.params });
    expect(items).toMatchObject([{ name: 'ridge', hasSecret: true, clients: [] }]);
    await test.owner.call(operations.signInWays.remove, { params: { ...app.dev.params, way: 'ridge' } });
    expect((await ourPage()).html).not.toContain('Ridge');
  });
});
