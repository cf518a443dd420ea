/** An environment as an OpenID provider: a plain client library signs a user in, and attacks on the way are refused. */
import { randomBytes } from 'node:crypto';
import { operations } from '@orchard/contract';
import { createRemoteJWKSet, jwtVerify } from 'jose';
import * as client from 'openid-client';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { signInTexts } from '@orchard/core/accounts';
import { SigningKeys } from '../src/platform/access/signingKeys.js';
import { eventually, makeApp, PASSWORD, signUp, startTestService, tampered, type TestApp, type TestService } from './support.js';

const RETURN = 'quillfell://signed-in';
const LOOPBACK = 'http://127.0.0.1/signed-in';
let test: TestService;
let app: TestApp;
let issuer: URL;
let email: string;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  issuer = new URL(`${test.address}/identity/quillfell-hiker/dev`);
  await test.owner.call(operations.accounts.changeRules, {
    params: app.dev.params,
    body: { redirects: { 'hiker-ios': [RETURN, LOOPBACK], 'hiker-web': ['https://huts.quillfell.example/in'] }, codeByMail: true },
  });
  ({ email } = await signUp(test, app.dev.clientKey, 'runa'));
});
afterAll(() => test.stop());

const discover = () => client.discovery(issuer, 'hiker-ios', undefined, client.None(), { execute: [client.allowInsecureRequests] });
type Asking = { verifier: string; url: URL; state: string; nonce: string };
async function asking(changes: Record<string, string> = {}): Promise<Asking> {
  const config = await discover();
  const verifier = client.randomPKCECodeVerifier();
  const [state, nonce] = [client.randomState(), client.randomNonce()];
  const url = client.buildAuthorizationUrl(config, {
    redirect_uri: RETURN,
    scope: 'openid email profile',
    code_challenge: await client.calculatePKCECodeChallenge(verifier),
    code_challenge_method: 'S256',
    state,
    nonce,
    ...changes,
  });
  return { verifier, url, state, nonce };
}
const hiddenIn = (html: string): string => /name="request" value="([^"]*)"/.exec(html)?.[1] ?? '';
/** A browser that opens the page: its text, and what it sends on. */
async function openPage(url: URL, headers: Record<string, string> = {}) {
  const opened = await fetch(url, { redirect: 'manual', headers });
  const html = await opened.text();
  const cookie = opened.headers.get('set-cookie')?.split(';')[0] ?? '';
  const send = async (fields: Record<string, string>, withCookie = cookie) => {
    const body = new URLSearchParams({ request: hiddenIn(html), ...fields });
    const reply = await fetch(`${issuer}/authorize`, { method: 'POST', body, redirect: 'manual', headers: { cookie: withCookie } });
    return { status: reply.status, html: await reply.text(), location: reply.headers.get('location') };
  };
  return { status: opened.status, html, headers: opened.headers, location: opened.headers.get('location'), send };
}
const PASSED = { step: 'password', password: PASSWORD };
async function codeFor({ url }: Asking): Promise<URL> {
  const page = await openPage(url);
  const { status, location } = await page.send({ ...PASSED, email });
  expect(status).toBe(303);
  return new URL(location as string);
}
const exchange = (form: Record<string, string>) =>
  fetch(`${issuer}/token`, { method: 'POST', body: new URLSearchParams(form) }).then(async (reply) => ({
    status: reply.status,
    body: await reply.json(),
  }));

describe('a plain OpenID client', () => {
  it('signs a user in with code and PKCE, checks the tokens by the published keys, renews and revokes them', async () => {
    const config = await discover();
    const asked = await asking();
    const tokens = await client.authorizationCodeGrant(config, await codeFor(asked), {
      pkceCodeVerifier: asked.verifier,
      expectedState: asked.state,
      expectedNonce: asked.nonce,
      idTokenExpected: true,
    });
    expect(tokens.claims()).toMatchObject({ email, email_verified: false, name: 'runa', iss: issuer.href, aud: 'hiker-ios' });
    const keys = createRemoteJWKSet(new URL(`${issuer}/jwks.json`));
    const { payload, protectedHeader } = await jwtVerify(tokens.access_token, keys, {
      issuer: issuer.href,
      audience: issuer.href,
      typ: 'at+jwt',
    });
    expect([payload.client_id, protectedHeader.alg]).toEqual(['hiker-ios', 'ES256']);
    expect(await client.fetchUserInfo(config, tokens.access_token, payload.sub as string)).toMatchObject({ email, name: 'runa' });
    expect((await test.app('GET', '/users/me', { key: app.dev.clientKey, token: tokens.access_token })).body.email).toBe(email);
    // The ID token is signed with the same key, and opens nothing; nor does an access token with something after it.
    for (const token of [tokens.id_token as string, `${tokens.access_token}.e30`])
      expect((await test.app('GET', '/users/me', { key: app.dev.clientKey, token })).body.type).toBe('/docs/problems/token-invalid');
    const renewed = await client.refreshTokenGrant(config, tokens.refresh_token as string);
    await client.tokenRevocation(config, renewed.refresh_token as string);
    await expect(client.refreshTokenGrant(config, renewed.refresh_token as string)).rejects.toMatchObject({ error: 'invalid_grant' });
    expect((await test.app('GET', '/users/me', { key: app.dev.clientKey, token: renewed.access_token })).status).toBe(401);
  });

  it('comes back to a loopback address at any port', async () => {
    const asked = await asking({ redirect_uri: 'http://127.0.0.1:53817/signed-in' });
    expect((await codeFor(asked)).origin).toBe('http://127.0.0.1:53817');
  });
});

describe('the page', () => {
  it('takes a code by mail in place of a password, and words that tell nothing', async () => {
    const page = await openPage((await asking()).url);
    expect((await page.send({ step: 'password', email, password: 'wrong-password' })).html).toContain(
      'E-mail address or password is wrong.',
    );
    const unknown = await page.send({ step: 'password', email: 'nobody@hikers.example', password: 'wrong-password' });
    expect([unknown.status, unknown.html.includes('E-mail address or password is wrong.')]).toEqual([400, true]);
    expect((await page.send({ step: 'send-code', email })).html).toContain(`If there is an account for ${email}`);
    const { text } = await eventually(async () => {
      const { items } = await test.owner.call(operations.accounts.outbox, { params: app.dev.params });
      return items.find(({ mail }) => mail === 'sign-in-code');
    });
    const code = /\d{6}/.exec(text)?.[0] as string;
    expect((await page.send({ step: 'code', email, code: '000000' })).html).toContain('This code is not valid.');
    const { location } = await page.send({ step: 'code', email, code });
    expect(location).toMatch(/^quillfell:\/\/signed-in\?code=/);
    expect((await page.send({ ...PASSED, email })).html).toContain('open too long');
  });

  it.each(['en', 'nb', 'de', 'ja', 'ar'])('speaks %s, without script, and says so', async (language) => {
    const { html, headers } = await openPage((await asking({ ui_locales: language })).url);
    const { texts } = signInTexts([language]);
    expect(html).toContain(`<html lang="${language}" dir="${texts.direction}">`);
    expect(html).toContain(texts.signIn);
    expect(html).not.toContain('<script');
    expect(headers.get('content-security-policy')).toMatch(/default-src 'none'.*form-action 'self' quillfell:.*frame-ancestors 'none'/);
  });

  it('is of the browser that opened it, and shows nothing that it was sent as markup', async () => {
    const page = await openPage((await asking()).url);
    expect((await page.send({ ...PASSED, email }, 'orchard_sign_in=another')).html).toContain('open too long');
    const { html } = await page.send({ step: 'send-code', email: '"><img src=x>@hikers.example' });
    expect(html).not.toContain('<img');
  });
});

describe('an attack', () => {
  it.each([
    ['an unknown client', { client_id: 'stranger' }, 'No client stranger'],
    ['an address that is not listed', { redirect_uri: 'https://evil.example/in' }, 'is not among those'],
    ['an address that begins like one', { redirect_uri: `${RETURN}.evil.example` }, 'is not among those'],
    ['the address of another client', { redirect_uri: 'https://huts.quillfell.example/in' }, 'is not among those'],
    ['a loopback address with another path', { redirect_uri: 'http://127.0.0.1:80/other' }, 'is not among those'],
  ])('by %s leads nowhere', async (_what, changes, words) => {
    const { status, html, location } = await openPage((await asking(changes)).url);
    expect([status, location]).toEqual([422, null]);
    expect(html).toContain(words);
  });

  it.each([
    ['no challenge', { code_challenge: '' }, 'invalid_request'],
    ['a plain challenge', { code_challenge_method: 'plain' }, 'invalid_request'],
    ['an implicit grant', { response_type: 'token' }, 'unsupported_response_type'],
    ['no openid', { scope: 'email' }, 'invalid_scope'],
  ])('by %s is answered to the app, with state and issuer', async (_what, changes, error) => {
    const asked = await asking(changes);
    const { location } = await openPage(asked.url);
    const parameters = new URL(location as string).searchParams;
    expect([parameters.get('error'), parameters.get('state'), parameters.get('iss')]).toEqual([error, asked.state, issuer.href]);
  });

  it('on a code is refused: another verifier, client or address, and one that comes twice ends what it began', async () => {
    const asked = await asking();
    const code = (await codeFor(asked)).searchParams.get('code') as string;
    const form = { grant_type: 'authorization_code', client_id: 'hiker-ios', redirect_uri: RETURN, code, code_verifier: asked.verifier };
    const other = randomBytes(32).toString('base64url');
    for (const changes of [
      { code_verifier: other },
      { code_verifier: '' },
      { client_id: 'hiker-web' },
      { redirect_uri: LOOPBACK },
      { code: other },
    ])
      expect((await exchange({ ...form, ...changes })).body.error).toBe('invalid_grant');
    const { status, body } = await exchange(form);
    expect(status).toBe(200);
    expect((await exchange(form)).body).toMatchObject({
      error: 'invalid_grant',
      error_description: expect.stringContaining('used before'),
    });
    expect((await test.app('GET', '/users/me', { key: app.dev.clientKey, token: body.access_token })).status).toBe(401);
  });

  it('with the code in two places at once begins one session at most', async () => {
    const asked = await asking();
    const code = (await codeFor(asked)).searchParams.get('code') as string;
    const form = { grant_type: 'authorization_code', client_id: 'hiker-ios', redirect_uri: RETURN, code, code_verifier: asked.verifier };
    const answers = await Promise.all([exchange(form), exchange(form), exchange(form)]);
    expect(answers.filter(({ status }) => status === 200).length).toBeLessThanOrEqual(1);
  });

  it('with a token of another environment, or one signed by somebody else, is refused', async () => {
    const { token } = await signUp(test, app.live.clientKey, 'live-one');
    const [head = '', payload = '', signature = ''] = token.split('.');
    const forged = Buffer.from(JSON.stringify({ alg: 'none', typ: 'at+jwt' })).toString('base64url');
    for (const bad of [token, `${forged}.${payload}.`, `${head}.${payload}.${tampered(signature)}`])
      expect((await test.app('GET', '/users/me', { key: app.dev.clientKey, token: bad })).status).toBe(401);
  });
});

it('keeps nothing that anybody entered, and lets a web app read its tokens', async () => {
  const page = await openPage((await asking()).url);
  await page.send({ step: 'password', email, password: 'a-secret-nobody-saw' });
  await exchange({ grant_type: 'authorization_code', code: 'a-secret-code-nobody-saw' });
  const filter = "route LIKE '/identity/%' AND status = 400";
  const found = await eventually(async () => {
    const { items } = await test.owner.call(operations.telemetry.requests, { params: app.dev.params, query: { filter, limit: 100 } });
    return items.length >= 2 && items;
  });
  const whole = await Promise.all(
    found.map(({ id }) => test.owner.call(operations.telemetry.request, { params: { ...app.dev.params, request: id } })),
  );
  expect(JSON.stringify(whole)).not.toContain('nobody-saw');
  const reply = await fetch(`${issuer}/token`, {
    method: 'POST',
    headers: { origin: 'https://huts.quillfell.example' },
    body: new URLSearchParams({}),
  });
  expect(reply.headers.get('access-control-allow-origin')).toBe('https://huts.quillfell.example');
  const opened = await fetch((await asking()).url, { headers: { origin: 'https://huts.quillfell.example' } });
  expect(opened.headers.get('access-control-allow-origin')).toBeNull();
});

it('tells a backend whether a token is good, and nobody else', async () => {
  const { token, id } = await signUp(test, app.dev.clientKey, 'hana');
  const introspect = async (password: string, given = token) => {
    const headers = { authorization: `Basic ${Buffer.from(`backend:${encodeURIComponent(password)}`).toString('base64')}` };
    const reply = await fetch(`${issuer}/introspect`, { method: 'POST', body: new URLSearchParams({ token: given }), headers });
    return { status: reply.status, body: await reply.json() };
  };
  expect((await introspect(app.dev.serverKey)).body).toMatchObject({ active: true, sub: id, client_id: 'hiker-ios', iss: issuer.href });
  expect((await introspect(app.dev.serverKey, 'nonsense')).body).toEqual({ active: false });
  for (const password of [app.dev.clientKey, app.live.serverKey, 'nonsense']) expect((await introspect(password)).status).toBe(401);
});

it('signs with a new key after ninety days, and knows the one before for a week more', async () => {
  await signUp(test, app.dev.clientKey, 'ivo');
  const environment = await test.service.parts.directory.environment(app.name, 'dev');
  const kidsAfter = async (days: number) => {
    const keys = new SigningKeys({ now: () => Date.now() + days * 86_400_000, random: randomBytes });
    const { kid } = await keys.current(environment);
    return { kid, published: (await keys.published(environment)).keys.map((key) => key.kid) };
  };
  const first = await kidsAfter(0);
  const second = await kidsAfter(91);
  expect(second.published).toEqual([first.kid, second.kid]);
  const third = await kidsAfter(182);
  expect(third.published).toEqual([second.kid, third.kid]);
  expect((await kidsAfter(182)).kid).toBe(third.kid);
});
