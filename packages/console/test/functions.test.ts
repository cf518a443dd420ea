/** Functions and upstreams in the console: written, refused, tried, compared, and found from what they stand on. */
import { operations } from '@orchard/contract';
import { Offices, WEATHER_KEY } from '@orchard/simulators';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

const P = '/quillfell-hiker/dev';
let test: TestService;
let app: TestApp;
let office: Offices;
let browser: Browser;
let page: Page;
const open = (path: string) => page.goto(test.address + path);
const button = (name: string | RegExp) => page.getByRole('button', { name }).first();
const text = (words: string | RegExp) => page.getByText(words).first();
const code = () => page.getByRole('textbox', { name: /^Code of/ });
const write = async (source: string) => {
  await code().click();
  await page.keyboard.press('Control+A');
  await page.keyboard.insertText(source);
};

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  office = new Offices();
  await office.start();
  (test.config.pushOrigins as string[]).push(office.address);
  app = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: {
      name: 'huts',
      fields: [
        { name: 'name', type: 'text' },
        { name: 'bunks', type: 'integer' },
      ],
    },
  });
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
  await office?.stop();
});

describe('the editor of functions', () => {
  it('opens a stub for a hook from its collection, completes names, and marks errors before it is saved', async () => {
    await open(`${P}/data/huts?tab=hooks`);
    await text('No function stands on huts.').waitFor();
    await page.getByRole('link', { name: 'Add hook' }).click();
    await page.getByText("BeforeWrite<'huts'>").waitFor();
    await text('No errors found.').waitFor();
    await write("const handler: BeforeWrite<'huts'> = async (_, { records }) => { await records(");
    await page.keyboard.type("'");
    await page.locator('.cm-tooltip-autocomplete li', { hasText: 'huts' }).click();
    await page.keyboard.insertText("').read('x').then(({ bunkz }) => bunkz); };\nexport default handler;");
    await text('One error, marked in the code.').waitFor();
    await page.locator('.cm-lint-marker-error').waitFor();
    await page.getByLabel('Name', { exact: true }).fill('hut-check');
    await button('Save').click();
    await text(/main\.ts:1:\d+/).waitFor();
    await write(
      "const handler: BeforeWrite<'huts'> = ({ record }, { refuse }) => { if (record!.bunks! > 80) refuse('Too many bunks.'); };\nexport default handler;",
    );
    await text('No errors found.').waitFor();
    await button('Save').click();
    await page.getByRole('cell', { name: 'before create of huts' }).waitFor();
    const refused = await test.app('POST', '/data/huts', { key: app.dev.serverKey, body: { bunks: 90 } });
    expect(refused.body.detail).toBe('Too many bunks.');
  });

  it('shows what a trial says, the runs, and how versions differ', async () => {
    await open(`${P}/functions?open=hut-check`);
    await page.getByLabel('Event: action, before, record, sent').fill('{ "record": { "bunks": 99 } }');
    await button('Try').click();
    await page.getByRole('status').getByText('refused').waitFor();
    await text('before create of huts').waitFor();
    await write("const handler: BeforeWrite<'huts'> = () => undefined;\nexport default handler;");
    await button('Save').click();
    await page.getByRole('cell', { name: '2', exact: true }).waitFor();
    await button('Difference').click();
    await page.getByLabel('Version 2 beside').waitFor();
    expect(await page.locator('.cm-changedLine').count()).toBeGreaterThan(0);
    expect(await violations(page)).toEqual([]);
  });

  it('lists schedules with their next run', async () => {
    await open(`${P}/schedules`);
    await text('No schedule yet').waitFor();
    await test.owner.call(operations.functions.put, {
      params: { ...app.dev.params, name: 'morning' },
      body: { kind: 'schedule', clock: '0 6 * * *', zone: 'Europe/Oslo', source: 'export default () => undefined;' },
    });
    await open(`${P}/schedules`);
    await page.getByRole('link', { name: 'morning' }).waitFor();
    await text('Europe/Oslo').waitFor();
    await text('never').waitFor();
    expect(await violations(page)).toEqual([]);
  });
});

describe('the page of upstreams', () => {
  it('adds one and says at once what is missing, until its secret is there', async () => {
    await test.owner.call(operations.functions.putSecret, {
      params: { ...app.dev.params, secret: 'weather-key' },
      body: { value: 'wrong' },
    });
    await open(`${P}/upstreams?add=1`);
    await page.getByLabel(/^Name/).first().fill('weather');
    await page.getByLabel('Address').fill(`${office.address}/weather`);
    await page.getByLabel('Identify by').selectOption('header');
    await page.getByLabel('Header', { exact: true }).fill('X-Weather-Key');
    await page.getByLabel('Secret', { exact: true }).selectOption('weather-key');
    await button('Save and check').click();
    await text(/It answers 401: it does not take what it is shown/).waitFor();
    await test.owner.call(operations.functions.putSecret, {
      params: { ...app.dev.params, secret: 'weather-key' },
      body: { value: WEATHER_KEY },
    });
    await button('Check').click();
    await text('It answers, and takes what it is shown.').waitFor();
  });

  it('opens an operation to apps, tries it, and shows who uses it', async () => {
    await open(`${P}/upstreams?open=weather`);
    await page.getByLabel('Path').first().fill('/forecasts/{hut}');
    await button('Open it').click();
    await page.getByLabel('Who may call forecasts-hut').selectOption('anyone');
    await page.getByLabel('Path').last().fill('/forecasts/fellgate');
    await button('Try').click();
    await page
      .getByRole('status')
      .getByText(/200 after/)
      .waitFor();
    expect((await test.app('GET', '/upstreams/weather/forecasts/fellgate', { key: app.dev.clientKey })).status).toBe(200);
    expect(await violations(page)).toEqual([]);
    await open(`${P}/uses`);
    await page.getByRole('img', { name: 'Who uses what' }).waitFor();
    await page.getByRole('cell', { name: 'upstream weather' }).waitFor();
    expect(await violations(page)).toEqual([]);
  });
});

describe('secrets', () => {
  it('are set, never shown again, and deleted after a question', async () => {
    await open(`${P}/functions`);
    await button('Secrets').click();
    await page.getByLabel('Name', { exact: true }).fill('ridge-key');
    await page.getByLabel('Value', { exact: true }).fill('larch-and-lichen-0001');
    await page.getByRole('button', { name: 'Set', exact: true }).click();
    const listed = page.getByRole('row', { name: /ridge-key/ });
    await listed.waitFor();
    await expect.poll(() => page.content()).not.toContain('larch-and-lichen-0001');
    expect(await violations(page)).toEqual([]);
    await button('Delete ridge-key').click();
    await page.getByRole('dialog').getByRole('button', { name: 'Delete', exact: true }).click();
    await listed.waitFor({ state: 'detached' });
  });
});
