/** Second factors and passkeys of users: added by their owner, asked at every way in, and never a way around. */
import { operations } from '@orchard/contract';
import { TOTP } from 'otpauth';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { formOf, PageApp } from './pageBrowser.js';
import { PasskeyDevice } from './passkeyDevice.js';
import { makeApp, PASSWORD, signUp, startTestService, tampered, type TestApp, type TestService } from './support.js';

const RETURN = 'quillfell://signed-in';
const WRONG = '000000';
let test: TestService;
let app: TestApp;
let number = 0;
let user: Awaited<ReturnType<typeof signUp>>;
let email: string;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.accounts.changeRules, {
    params: app.dev.params,
    body: { codeByMail: true, redirects: { 'hiker-ios': [RETURN] } },
  });
});
afterAll(() => test.stop());
beforeEach(async () => {
  user = await signUp(test, app.dev.clientKey, `runa${++number}`);
  ({ email } = user);
});

const call = (method: string, path: string, body?: object, token = user.token) =>
  test.app(method, path, { key: app.dev.clientKey, token, ...(body ? { body } : {}) });
const anonymous = (path: string, body: object = {}) => test.app('POST', path, { key: app.dev.clientKey, body });
const signIn = (password = PASSWORD) => anonymous('/sessions', { email, password });
/** The code that an authenticator app shows, some steps from now: each works once. */
const codeOf = (secret: string, step = 0) =>
  new TOTP({ secret, digits: 6, period: 30 }).generate({ timestamp: Date.now() + step * 30_000 });

async function addAuthenticator(): Promise<{ secret: string; recoveryCodes: string[]; id: string }> {
  const { body } = await call('POST', '/users/me/authenticators', { password: PASSWORD });
  const done = await call('POST', `/users/me/authenticators/${body.id}/codes`, { code: codeOf(body.secret, -1) });
  expect(done.status).toBe(200);
  return { secret: body.secret, recoveryCodes: done.body.recoveryCodes, id: body.id };
}

describe('an authenticator app', () => {
  it('counts from its first code on, ends other sessions, and is asked at the next sign-in', async () => {
    const other = (await signIn()).body.accessToken;
    const { secret, recoveryCodes } = await addAuthenticator();
    expect(recoveryCodes).toHaveLength(10);
    expect((await call('GET', '/users/me', undefined, other)).body.type).toContain('session-ended');
    const asked = await signIn();
    expect(asked).toMatchObject({ status: 401, body: { methods: ['code'], ticket: expect.any(String) } });
    expect(asked.body).not.toHaveProperty('accessToken');
    const { ticket } = asked.body;
    expect((await anonymous('/sessions/second-factor', { ticket, code: WRONG })).status).toBe(401);
    const done = await anonymous('/sessions/second-factor', { ticket, code: codeOf(secret) });
    expect(done).toMatchObject({ status: 201, body: { user: { email } } });
  });

  it('does not take a code twice, but a recovery code once', async () => {
    const { secret, recoveryCodes } = await addAuthenticator();
    const { ticket } = (await signIn()).body;
    const code = codeOf(secret);
    expect((await anonymous('/sessions/second-factor', { ticket, code })).status).toBe(201);
    const again = await anonymous('/sessions/second-factor', { ticket: (await signIn()).body.ticket, code });
    expect(again.body.detail).toContain('used already');
    const [recovery] = recoveryCodes;
    const byRecovery = async () =>
      (await anonymous('/sessions/second-factor', { ticket: (await signIn()).body.ticket, code: recovery })).status;
    expect([await byRecovery(), await byRecovery()]).toEqual([201, 401]);
    expect((await call('GET', '/users/me/second-factors')).body).toMatchObject({ items: [{ kind: 'authenticator' }], recoveryCodes: 9 });
  });

  it('is asked of who comes by a code in a mail, too', async () => {
    await addAuthenticator();
    const { code } = (await anonymous('/sign-in-codes', { email })).body;
    expect(await anonymous('/sessions/code', { email, code })).toMatchObject({ status: 401, body: { ticket: expect.any(String) } });
  });

  it('is asked on the sign-in page', async () => {
    const { secret } = await addAuthenticator();
    const issuer = new URL(`${test.address}/identity/quillfell-hiker/dev`);
    const page = new PageApp(issuer, { clientId: 'hiker-ios', redirectUri: RETURN });
    const { browser, html } = await page.open();
    const asked = await browser.post(`${issuer}/authorize`, { ...formOf(html).fields, email, password: PASSWORD });
    expect([asked.location, asked.html.includes('Enter the code of your authenticator app')]).toEqual(['', true]);
    const wrong = await browser.post(`${issuer}/authorize`, { ...formOf(asked.html).fields, code: WRONG });
    expect(wrong.html).toContain('This code is not valid.');
    const { location } = await browser.post(`${issuer}/authorize`, { ...formOf(wrong.html).fields, code: codeOf(secret) });
    expect((await page.tokens(location)).access_token).toMatch(/^ey/);
  });

  it('is neither added without the password nor removed without a code', async () => {
    expect((await call('POST', '/users/me/authenticators', {})).status).toBe(401);
    expect((await call('POST', '/users/me/authenticators', { password: 'wrong' })).status).toBe(401);
    const { id, secret } = await addAuthenticator();
    expect((await call('POST', `/users/me/second-factors/${id}/removal`, { password: PASSWORD })).body.methods).toEqual(['code']);
    expect((await call('POST', `/users/me/second-factors/${id}/removal`, { code: codeOf(secret) })).status).toBe(204);
    expect((await signIn()).status).toBe(201);
  });

  it('has tickets of one sign-in, at one client', async () => {
    const { secret } = await addAuthenticator();
    const { ticket } = (await signIn()).body;
    const elsewhere = await test.app('POST', '/sessions/second-factor', {
      key: app.live.clientKey,
      body: { ticket, code: codeOf(secret) },
    });
    const changed = await anonymous('/sessions/second-factor', { ticket: tampered(ticket), code: codeOf(secret) });
    expect([elsewhere.body.type, changed.body.type]).toEqual(['/docs/problems/link-refused', '/docs/problems/link-refused']);
  });

  it('that is lost is removed by a maintainer, and the sessions end', async () => {
    await addAuthenticator();
    const params = { ...app.dev.params, user: user.id };
    expect((await test.owner.call(operations.userFactors.ofUser, { params })).items).toMatchObject([{ kind: 'authenticator' }]);
    await test.owner.call(operations.userFactors.reset, { params });
    expect((await call('GET', '/users/me')).status).toBe(401);
    expect((await signIn()).status).toBe(201);
  });
});

describe('a passkey', () => {
  const origin = () => test.address.replace('127.0.0.1', 'localhost');
  async function addPasskey(device: PasskeyDevice) {
    const { body } = await call('POST', '/users/me/passkey-challenges', { password: PASSWORD });
    return call('POST', '/users/me/passkeys', { name: 'Phone', passkey: device.create(body) });
  }

  it('signs in without anything else, and not with a response that was used', async () => {
    const device = new PasskeyDevice(origin());
    expect(await addPasskey(device)).toMatchObject({ status: 201, body: { kind: 'passkey', name: 'Phone' } });
    const passkey = device.use((await anonymous('/passkey-challenges')).body);
    expect(await anonymous('/sessions/passkey', { passkey })).toMatchObject({ status: 201, body: { user: { email } } });
    expect(await anonymous('/sessions/passkey', { passkey })).toMatchObject({
      status: 401,
      body: { detail: expect.stringContaining('used already') },
    });
    // It is a way of its own: the password alone still signs in.
    expect((await signIn()).status).toBe(201);
  });

  it('of another page is refused, and said to be', async () => {
    const device = new PasskeyDevice('https://huts.quillfell.example');
    expect((await addPasskey(device)).body.detail).toContain('was used on a page of https://huts.quillfell.example');
  });

  it('belongs to the app’s own domain where it has one, with pages and apps beside it', async () => {
    const apk = 'android:apk-key-hash:2jmj7l5rSw0yVb_vlWAYkK_YBwk';
    const body = { passkeyDomain: 'quillfell.example', passkeyOrigins: ['https://huts.quillfell.example', apk] };
    await test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body });
    const { body: options } = await call('POST', '/users/me/passkey-challenges', { password: PASSWORD });
    expect(options.publicKey.rp.id).toBe('quillfell.example');
    expect((await addPasskey(new PasskeyDevice(apk))).status).toBe(201);
    const related = await (await fetch(`${test.address}/identity/quillfell-hiker/dev/.well-known/webauthn`)).json();
    expect(related).toEqual({ origins: ['https://huts.quillfell.example'] });
    await test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body: { passkeyDomain: null, passkeyOrigins: [] } });
  });
});
