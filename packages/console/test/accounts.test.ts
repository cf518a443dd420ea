import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, violations } from './browser.js';

let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
const button = (name: string) => page.getByRole('button', { name });
const WARDEN = { email: 'bran@quillfell.example', name: 'Bran Esker', password: 'larch-and-juniper' };

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  browser = await openBrowser();
  page = await openPage(browser);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

async function signIn(password: string): Promise<void> {
  await page.goto(`${test.address}/sign-in`);
  await page.getByLabel('E-mail address').fill(WARDEN.email);
  await page.locator('input[type=password]').fill(password);
  await page.getByRole('button', { name: 'Sign in', exact: true }).click();
}

it('lets a member set a new password at a one-time address, and change it under Account', async () => {
  const { id } = await test.owner.call(operations.members.add, {
    body: { ...WARDEN, roles: [{ app: app.dev.params.app, role: 'viewer' }] },
  });
  const { address } = await test.owner.call(operations.members.makePasswordLink, { params: { member: id } });
  await page.goto(address);
  await page.getByRole('textbox', { name: 'New password' }).fill('password1');
  await button('Save password').click();
  await page.getByText(/easy to guess/).waitFor();
  await page.getByRole('textbox', { name: 'New password' }).fill('over-the-second-col');
  expect(await violations(page)).toEqual([]);
  await button('Save password').click();
  await page.getByText('The new password is set').waitFor();

  await signIn('over-the-second-col');
  await page.getByRole('heading', { name: 'Apps' }).waitFor();
  await page.goto(`${test.address}/quillfell-hiker/dev/overview`);
  await button('Signed in as Bran Esker').click();
  await page.getByRole('menuitem', { name: 'Account' }).click();
  await page.getByRole('heading', { name: 'Account' }).waitFor();
  await button('Change password').click();
  await page.getByRole('textbox', { name: 'Current password' }).fill('not-the-password');
  await page.getByRole('textbox', { name: 'New password' }).fill('under-the-third-col');
  await page.getByRole('dialog').getByRole('button', { name: 'Change password' }).click();
  await page.getByText('The current password is wrong.').waitFor();
  expect(await violations(page)).toEqual([]);
  await page.getByRole('textbox', { name: 'Current password' }).fill('over-the-second-col');
  await page.getByRole('dialog').getByRole('button', { name: 'Change password' }).click();
  await page.getByText('The new password is set. You stay signed in here').waitFor();
  await button('Done').click();
  await page.reload();
  await page.getByRole('heading', { name: 'Account' }).waitFor();
  await button('Signed in as Bran Esker').click();
  await page.getByRole('menuitem', { name: 'Sign out' }).click();
  await signIn('under-the-third-col');
  await page.getByRole('heading', { name: 'Apps' }).waitFor();
});

it('lets a user of an app set a new password at the address that dev shows', async () => {
  await signUp(test, app.dev.clientKey, 'aino');
  const asked = await test.app('POST', '/password-links', { key: app.dev.clientKey, body: { email: 'aino@hikers.example' } });
  await page.goto(asked.body.address);
  await page.getByRole('textbox', { name: 'New password' }).fill('quillfell-hiker');
  await button('Save password').click();
  await page.getByText(/address or name of the account, or of the app/).waitFor();
  await page.getByRole('textbox', { name: 'New password' }).fill('between-two-huts');
  await button('Save password').click();
  await page.getByText('Sign in to the app with it.').waitFor();
  const body = { email: 'aino@hikers.example', password: 'between-two-huts' };
  expect((await test.app('POST', '/sessions', { key: app.dev.clientKey, body })).status).toBe(201);
  await page.reload();
  await page.getByRole('textbox', { name: 'New password' }).fill('between-three-huts');
  await button('Save password').click();
  await page.getByText(/was used/).waitFor();
});

it('says where a member gets a new password when the installation has no mail server', async () => {
  await page.goto(`${test.address}/sign-in`);
  await page.getByRole('link', { name: 'Forgot password?' }).click();
  await page.getByLabel('E-mail address').fill(WARDEN.email);
  await page.locator('button[type=submit]').click();
  await page.getByText(/ORCHARD_SMTP_URL/).waitFor();
  expect(await violations(page)).toEqual([]);
});
