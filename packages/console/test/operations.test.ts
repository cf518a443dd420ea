/** Operations in the console: the condition and its objectives, incidents, alerts, the log. */
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), { evaluateMs: 1_000 });
  app = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.collections.create, { params: app.live.params, body: { name: 'huts' } });
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

const open = (path: string) => page.goto(`${test.address}/quillfell-hiker/live/${path}`);
const button = (name: string | RegExp) => page.getByRole('button', { name, exact: true });
const row = (text: string | RegExp) => page.getByRole('row').filter({ hasText: text });
const refuse = async (calls: number) => {
  for (let i = 0; i < calls; i++) await test.app('GET', '/data/huts?filter=nowhere%20%3D%201', { key: app.live.serverKey });
};

describe('the condition', () => {
  it('shows every environment with its last five minutes, and leads from an objective to the calls that count', async () => {
    await refuse(40);
    await open('condition');
    const environments = page.getByRole('region', { name: 'Environments' });
    await environments.getByText('failing', { exact: true }).waitFor();
    await environments.getByRole('img', { name: /quillfell-hiker \/ live: 40 calls, 0 failed, 40 refused/ }).waitFor();
    // What is nearest to its limit stands on top.
    const first = page.getByRole('table', { name: 'Objectives' }).getByRole('row').nth(1);
    expect(await first.textContent()).toContain('Few calls are refused');
    expect(await violations(page)).toEqual([]);
    await first.getByRole('link', { name: /calls that count against/ }).click();
    await page.getByRole('heading', { name: 'Requests' }).waitFor();
    await row('malformed-filter').first().waitFor();
  });

  it('changes a limit after a look at what it would have said, and keeps who and why', async () => {
    await open('condition');
    await button('Few calls are refused').first().click();
    const drawer = page.getByRole('dialog');
    await drawer.getByText('The environment was').waitFor();
    await drawer.getByLabel('Stressed beyond').fill('60');
    await drawer.getByLabel('Failing beyond').fill('40');
    await drawer.getByText('With these limits').waitFor({ state: 'detached' });
    await drawer.getByRole('button', { name: 'Store as a new version' }).click();
    await drawer
      .getByText(/wrong order/)
      .first()
      .waitFor();
    await drawer.getByLabel('Failing beyond').fill('90');
    await drawer.getByText('With these limits').waitFor();
    expect(await violations(page)).toEqual([]);
    await drawer.getByLabel('Why').fill('Searches with typing errors are refused often');
    await drawer.getByRole('button', { name: 'Store as a new version' }).click();
    await drawer.waitFor({ state: 'detached' });
    const { items } = await test.owner.call(operations.objectives.versions, { params: app.live.params });
    expect(items[0]).toMatchObject({ version: 2, why: 'Searches with typing errors are refused often', by: { name: 'Mira Quill' } });
    expect(items[0]?.items.find(({ name }) => name === 'few-refusals')).toMatchObject({ stressed: 0.6, failing: 0.9 });
  });

  it('stands beside the name of the environment, and on the list of apps', async () => {
    await open('overview');
    await page.getByRole('banner').getByText('failing').waitFor();
    await page.goto(test.address);
    await page.getByRole('img', { name: /quillfell-hiker \/ live, last five minutes/ }).waitFor();
    expect(await violations(page)).toEqual([]);
  });
});

describe('an incident', () => {
  it('is acknowledged, gets a note, and shows the worst routes', async () => {
    await open('incidents');
    await page.getByRole('region', { name: 'Incidents' }).getByRole('row').nth(1).getByRole('button').first().click();
    const drawer = page.getByRole('dialog');
    await drawer.getByRole('button', { name: 'Acknowledge' }).click();
    await drawer
      .getByText(/acknowledged/)
      .first()
      .waitFor();
    await drawer.getByLabel('Note').fill('A client asks for a field that is gone');
    await drawer.getByRole('button', { name: 'Add note' }).click();
    await drawer.getByText('A client asks for a field that is gone').first().waitFor();
    await drawer.getByRole('link', { name: 'GET /app/v1/data/{collection}' }).waitFor();
    expect(await violations(page)).toEqual([]);
  });
});

describe('alerts', () => {
  it('get a rota and a rule, which can be tested', async () => {
    await open('alerts');
    await button('New rota').click();
    const dialog = page.getByRole('dialog');
    await dialog.getByLabel('In turn').first().click();
    await page.getByRole('option', { name: 'Mira Quill' }).click();
    await page.keyboard.press('Escape');
    await dialog.getByRole('button', { name: 'Add rota' }).click();
    await page.getByText('on call by duty').waitFor();
    await button('New rule').click();
    await dialog.getByLabel('Name').fill('stressed');
    await dialog.getByText('stressed', { exact: true }).click();
    await dialog.getByLabel('First').first().click();
    await page.getByRole('option', { name: 'on call (duty)' }).click();
    await page.keyboard.press('Escape');
    await dialog.getByRole('button', { name: 'Add rule' }).click();
    await row('on call (duty)').getByRole('button', { name: 'Test' }).click();
    // Nobody has told the service how to be reached.
    await page.getByRole('status').getByText('Mira Quill: has no verified way to be reached').waitFor();
  });
});

describe('the log', () => {
  it('shows entries with what stood around them, and errors by cause', async () => {
    const error = {
      name: 'TypeError',
      message: 'Cannot read nights',
      stack: 'TypeError\n    at openBooking (/booking.js:41:3)',
      version: '2.5.0',
    };
    const entries = [{ text: 'The map is stored' }, { text: '', level: 'error', error }];
    expect((await test.app('POST', '/log', { key: app.live.clientKey, body: { entries } })).status).toBe(202);
    await open('log');
    await row('The map is stored').getByRole('button').first().click();
    await page.getByRole('dialog').getByText('TypeError: Cannot read nights').waitFor();
    await open('errors');
    await row('openBooking (/booking.js:41)').getByRole('button').first().click();
    const drawer = page.getByRole('dialog');
    await drawer.getByLabel('Settled in version').fill('2.5.1');
    await drawer.getByRole('button', { name: 'Settle' }).click();
    await row('settled in 2.5.1').waitFor();
  });
});

describe('a request in full', () => {
  it('shows its steps, and a search for it is saved for the team', async () => {
    await open('requests?text=nowhere');
    await row('malformed-filter').first().getByRole('button').first().click();
    const drawer = page.getByRole('dialog');
    await drawer.getByRole('list', { name: 'Timeline' }).getByText('key', { exact: true }).waitFor();
    await drawer.getByText(/^curl -X GET/).waitFor();
    await page.keyboard.press('Escape');
    await button('Searches').click();
    await page.getByRole('menuitem', { name: /Save this search/ }).click();
    await page.getByLabel('Name of the search').fill('Fields that are gone');
    await button('Save').click();
    await eventually(async () => {
      const { items } = await test.owner.call(operations.telemetry.searches, { params: app.live.params });
      return items.some(({ name, query }) => name === 'Fields that are gone' && query === 'text=nowhere');
    });
  });
});
