/** The page Sign-in: a provider is added, checked and tried with a made-up person, and roles and mails are kept. */
import { operations } from '@orchard/contract';
import { type OpenIdProvider, PROVIDER_PASSWORD, startOpenIdProvider } from '@orchard/simulators';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

let test: TestService;
let app: TestApp;
let provider: OpenIdProvider;
let browser: Browser;
let page: Page;
const button = (name: string, on = page) => on.getByRole('button', { name, exact: true });
const open = (tab: string) => page.goto(`${test.address}/quillfell-hiker/dev/entry?tab=${tab}`);

beforeAll(async () => {
  [test, provider, browser] = await Promise.all([startTestService(inject('databaseUrl')), startOpenIdProvider(), openBrowser()]);
  test.config.pushOrigins.push(provider.issuer);
  app = await makeApp(test, 'quillfell-hiker');
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await Promise.all([test?.stop(), provider?.stop()]);
});

it('adds a provider, says which step fails, and shows each step’s answer for a made-up person', async () => {
  await open('ways');
  await button('Add a provider').click();
  const form = page.getByRole('dialog');
  await form.getByLabel('Name').fill('ridge');
  await form.getByLabel('Title').fill('Sign in at the ridge');
  await form.getByLabel('Issuer').fill(`${provider.issuer}/nowhere`);
  await form.getByLabel(/^Client id(?!s)/).fill(provider.client.id);
  await form.getByLabel('Secret').fill(provider.client.secret);
  await form.getByLabel('Roles by group').fill('wardens = warden');
  await button('Save').click();
  await button('Check Sign in at the ridge').click();
  await page.getByText(/metadata: No OpenID provider answers at/).waitFor();
  await button('Change').click();
  await page.getByRole('dialog').getByLabel('Issuer').fill(provider.issuer);
  await button('Save').click();
  await button('Check Sign in at the ridge').click();
  await page.getByText(/address: List http/).waitFor();
  expect(await violations(page)).toEqual([]);

  const { items } = await test.owner.call(operations.signInWays.list, { params: app.dev.params });
  provider.allow(items[0]?.redirectAddress as string);
  const [trial] = await Promise.all([page.context().waitForEvent('page'), button('Try it: Sign in at the ridge').click()]);
  await trial.getByText(items[0]?.redirectAddress as string).waitFor();
  await trial.getByRole('link', { name: 'Go to the provider' }).click();
  await trial.locator('input[name=user]').fill('signe');
  await trial.locator('input[name=password]').fill(PROVIDER_PASSWORD);
  await trial.getByRole('button').click();
  await trial.getByText('The way works. Nobody was signed in, and nothing was kept.').waitFor();
  await trial.getByText('wardens, staff: gives the role warden').waitFor();
  expect(await violations(trial)).toEqual([]);
  await trial.close();
  expect((await test.owner.call(operations.users.list, { params: app.dev.params })).items).toEqual([]);
});

it('describes a role, with a rule that is refused by its field until it fits', async () => {
  await test.owner.call(operations.accounts.defineField, {
    params: { ...app.dev.params, field: 'level' },
    body: { type: 'integer', changedBy: 'servers' },
  });
  await open('roles');
  await button('Describe a role').click();
  const form = page.getByRole('dialog');
  await form.getByLabel('Name').fill('guide');
  await form.getByLabel('What it is for').fill('Leads walks');
  await form.getByLabel('Rule').fill('leve >= 3');
  await button('Save').click();
  await form.getByText(/leve/).nth(1).waitFor();
  await form.getByLabel('Rule').fill('level >= 3');
  await button('Save').click();
  await page.getByRole('row', { name: /guide.*level >= 3/ }).waitFor();
});

it('writes a mail in the team’s words, and shows it with made-up values as it is typed', async () => {
  await open('mails');
  await page.getByLabel('Mail', { exact: true }).selectOption('Invitation');
  await page.getByLabel('Subject').fill('Come to {app}');
  await page.getByText('Come to Quillfell Hiker').waitFor();
  await button('Save in the team’s words').click();
  await page.getByText('the team’s own words', { exact: true }).waitFor();
});
