/** The sign-in page of an environment in a real browser, on a host of its own: a passkey, a password, and no fault of access. */
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { freePort } from '../../service/test/ports.js';
import { makeApp, PASSWORD, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, violations, withAuthenticator } from './browser.js';

const RETURN = 'http://127.0.0.1/signed-in';
let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
let base: string;
beforeAll(async () => {
  const port = await freePort();
  test = await startTestService(inject('databaseUrl'), { port, signInHosts: `http://{environment}.{app}.localhost:${port}` });
  app = await makeApp(test, 'quillfell-hiker');
  base = `http://dev.quillfell-hiker.localhost:${port}/identity/quillfell-hiker/dev`;
  await test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body: { redirects: { 'hiker-web': [RETURN] } } });
  browser = await openBrowser();
  page = await openPage(browser);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

const open = () =>
  page.goto(
    `${base}/authorize?${new URLSearchParams({
      client_id: 'hiker-web',
      redirect_uri: RETURN,
      response_type: 'code',
      scope: 'openid',
      code_challenge: 'E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM',
      code_challenge_method: 'S256',
    })}`,
  );
/** The address that the page leads back to; nothing listens there. */
const returning = () => page.waitForRequest((request) => request.url().startsWith(`${RETURN}?`)).then((request) => new URL(request.url()));

it('signs in with a password, and is accessible in light and dark and from right to left', async () => {
  const { email } = await signUp(test, app.dev.clientKey, 'runa');
  for (const colorScheme of ['light', 'dark'] as const) {
    await page.emulateMedia({ colorScheme });
    await open();
    expect(await violations(page)).toEqual([]);
  }
  await page.goto(`${page.url()}&ui_locales=ar`);
  expect([await page.locator('html').getAttribute('dir'), await violations(page)]).toEqual(['rtl', []]);
  await open();
  await page.getByLabel('E-mail address').fill(email);
  await page.getByLabel('Password').fill(PASSWORD);
  const back = returning();
  await page.getByRole('button', { name: 'Sign in', exact: true }).click();
  expect((await back).searchParams.get('code')).toBeTruthy();
});

it('signs in with a passkey that was created on the page’s host', async () => {
  await withAuthenticator(page);
  const { token, id } = await signUp(test, app.dev.clientKey, 'ivo');
  const as = (body: object) => ({ key: app.dev.clientKey, token, body });
  const { publicKey } = (await test.app('POST', '/users/me/passkey-challenges', as({ password: PASSWORD }))).body;
  await open();
  const passkey = await page.evaluate(async (options) => {
    const read = PublicKeyCredential as unknown as { parseCreationOptionsFromJSON: (json: unknown) => PublicKeyCredentialCreationOptions };
    const made = await navigator.credentials.create({ publicKey: read.parseCreationOptionsFromJSON(options) });
    return (made as PublicKeyCredential).toJSON();
  }, publicKey);
  expect((await test.app('POST', '/users/me/passkeys', as({ passkey }))).status).toBe(201);
  await open();
  await page.getByRole('button', { name: 'Sign in with a passkey' }).click();
  const back = returning();
  await page.getByRole('button', { name: 'Sign in with a passkey' }).click();
  expect((await back).searchParams.get('code')).toBeTruthy();
  const { items } = await test.owner.call(operations.userFactors.ofUser, { params: { ...app.dev.params, user: id } });
  expect(items).toMatchObject([{ kind: 'passkey', lastUsedAt: expect.any(String) }]);
});
