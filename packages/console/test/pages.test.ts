/** Pages and their small parts: what a team does in passing, from the search box to an index. */
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it, vi } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

const P = '/quillfell-hiker/dev';
let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
const open = (path: string) => page.goto(test.address + path);
const button = (name: string | RegExp) => page.getByRole('button', { name }).first();
const text = (words: string | RegExp) => page.getByText(words).first();
const huts = () => ({ ...app.dev.params, collection: 'huts' });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  for (const [id, bunks] of [
    ['fellgate', 48],
    ['larkspur', 26],
    ['dunmere', 12],
  ] as const)
    await test.owner.call(operations.managedRecords.put, { params: { ...huts(), id }, body: { name: `Hut ${id}`, bunks } });
  await signUp(test, app.dev.clientKey, 'runa');
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

describe('the apps page', () => {
  it('lists environments with mode and role, and creates an app', async () => {
    await open('/');
    await text('open, owner').waitFor();
    await page.getByLabel('New app').fill('Quillfell Warden');
    await button('Create app').click();
    await text(/Must be a lower-case letter/).waitFor();
    await page.getByLabel('New app').fill('quillfell-warden');
    await button('Create app').click();
    await page.waitForURL('**/quillfell-warden/dev/setup');
    await text('No client yet').waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('is one click from any environment, and switching keeps the page', async () => {
    await open(`${P}/topics`);
    await button(/switch app or environment/).click();
    await page.getByRole('menuitem', { name: /quillfell-hiker.*live/ }).click();
    await page.waitForURL('**/quillfell-hiker/live/topics');
  });
});

describe('the search box', () => {
  const search = async (words: string) => {
    await open(`${P}/overview`);
    await page.getByRole('heading', { name: 'Overview' }).waitFor();
    await page.keyboard.press('/');
    await page.getByLabel('Search for').fill(words);
  };

  it.each([
    ['gateways', 'Gateways', '**/dev/gateways'],
    ['huts', 'huts', '**/dev/data/huts'],
    ['runa@', 'runa@hikers.example', '**/dev/users?open=*'],
  ])('finds %s', async (words, label, address) => {
    await search(words);
    await page.getByRole('dialog').getByText(label).first().click();
    await page.waitForURL(address);
  });

  it('goes to the first hit on Enter, and to a request by its id', async () => {
    const { items } = await test.owner.call(operations.telemetry.requests, { params: app.dev.params, query: { limit: 1 } });
    const id = items[0]?.id ?? '';
    await search(id);
    await page.getByRole('dialog').getByText('request', { exact: true }).waitFor();
    await page.keyboard.press('Enter');
    await page.waitForURL(`**/dev/requests?open=${id}`);
  });

  it('says when there is nothing', async () => {
    await search('weather station');
    await page.getByRole('dialog').getByText('Nothing found.').waitFor();
  });
});

describe('a saved view', () => {
  it('keeps filter and sort for the team, and is chosen and deleted again', async () => {
    await open(`${P}/data/huts?filter=${encodeURIComponent('bunks > 20')}&sort=-bunks`);
    await button('Views').click();
    await text('Save this view …').click();
    await page.getByLabel('Name of the view').fill('Large huts');
    await button('Save').click();
    await button('Large huts').waitFor();
    await open(`${P}/data/huts`);
    await text('Hut dunmere').waitFor();
    await button('Views').click();
    await page.getByText('Large huts').click();
    await expect.poll(() => new URL(page.url()).searchParams.get('filter')).toBe('bunks > 20');
    await expect.poll(() => page.getByText('Hut dunmere').count()).toBe(0);
    await button('Large huts').click();
    await button('Delete the view Large huts').click();
    await expect.poll(async () => (await test.owner.call(operations.collections.views, { params: huts() })).items).toEqual([]);
  });
});

describe('indexes', () => {
  /** While the page still settles, what a click has opened may close again. */
  const chooseField = async (name: string) => {
    const field = page.getByRole('option', { name });
    await expect
      .poll(async () => {
        if (!(await field.isVisible())) await page.getByLabel('New index over').first().click({ force: true });
        return field.isVisible();
      })
      .toBe(true);
    await field.click();
  };

  it('are added over fields in their order, and dropped', async () => {
    await open(`${P}/data/huts?tab=indexes`);
    await page.getByRole('heading', { name: 'Cost of lists' }).waitFor();
    await chooseField('bunks');
    await page.getByRole('option', { name: 'name' }).click();
    await page.keyboard.press('Escape');
    await button('Add index').click();
    await page.getByRole('cell', { name: 'bunks, name' }).waitFor();
    expect(await violations(page)).toEqual([]);
    await button('Drop the index by_bunks_name').click();
    await expect.poll(() => page.getByRole('cell', { name: 'bunks, name' }).count()).toBe(0);
  });

  it('say which records stand against a unique one', async () => {
    await test.owner.call(operations.managedRecords.put, { params: { ...huts(), id: 'twin' }, body: { name: 'Hut fellgate', bunks: 48 } });
    await open(`${P}/data/huts?tab=indexes`);
    await chooseField('name');
    await page.keyboard.press('Escape');
    await page.getByLabel('Unique').check();
    await button('Add index').click();
    await text(/Some records of `huts` have the same name/).waitFor();
  });
});

describe('the notices', () => {
  it('are counted at the bell, lead to their page, and are read once opened', async () => {
    await test.owner.call(operations.managedRecords.patch, { params: { ...huts(), id: 'fellgate' }, body: { bunks: 48.5 } });
    await open(`${P}/overview`);
    await button(/Notices, 1 unread/).click();
    await page.getByRole('link', { name: '`bunks` in `huts` is a number field now' }).click();
    await page.waitForURL('**/data/huts**');
    await open(`${P}/overview`);
    await button('Notices').waitFor();
    await expect.poll(() => page.getByRole('button', { name: /unread/ }).count()).toBe(0);
  });
});

describe('the requests', () => {
  it('are filtered by a chip, shown in full, and lead to their client', async () => {
    await test.app('GET', '/data/huts/nowhere', { key: app.dev.clientKey });
    await expect
      .poll(
        async () =>
          (await test.owner.call(operations.telemetry.requests, { params: app.dev.params, query: { filter: 'status >= 400' } })).items
            .length,
      )
      .toBeGreaterThan(0);
    await open(`${P}/requests`);
    await text('Refused').click();
    await expect.poll(() => new URL(page.url()).searchParams.get('filter')).toBe('status >= 400 AND status < 500');
    await page
      .getByRole('button', { name: /\d\d:\d\d:\d\d/ })
      .first()
      .click();
    await page.getByRole('dialog').getByText('/app/v1/data/{collection}/{id}').waitFor();
    await page
      .getByRole('dialog')
      .getByText(/bytes out/)
      .waitFor();
    await page
      .getByRole('dialog')
      .getByText(/^curl -X GET/)
      .waitFor();
    expect(await violations(page)).toEqual([]);
  });
});

describe('an environment', () => {
  it('is added and closed, and wider numbers are refused', async () => {
    await open(`${P}/environments`);
    await page.getByLabel('New environment').fill('stage');
    await button('Add environment').click();
    await page.getByRole('heading', { name: /stage/ }).or(text('stage')).first().waitFor();
    await expect
      .poll(
        async () =>
          (await test.owner.call(operations.apps.list, {})).items.find(({ name }) => name === 'quillfell-hiker')?.environments.length,
      )
      .toBe(3);
  });
});

describe('a mistyped address', () => {
  it('of a collection or a page says so', async () => {
    await open(`${P}/data/weather`);
    await text('There is no collection weather').waitFor();
    await open(`${P}/nothing-here`);
    await text('There is no page at this address').waitFor();
    await page.getByRole('link', { name: 'All apps' }).last().click();
    await page.getByRole('heading', { name: 'Apps' }).waitFor();
  });
});

describe('the dark scheme', () => {
  it('is switched with one button, kept, and as accessible', async () => {
    await open(`${P}/overview`);
    await button('Switch between light and dark').click();
    await expect.poll(() => page.evaluate(() => document.documentElement.dataset.mantineColorScheme)).toBe('dark');
    await page.reload();
    await page.getByRole('heading', { name: 'Overview' }).waitFor();
    expect(await page.evaluate(() => document.documentElement.dataset.mantineColorScheme)).toBe('dark');
    expect(await violations(page)).toEqual([]);
    await button('Switch between light and dark').click();
  });
});

describe('the page Sign-in', () => {
  it('sets how passwords must be, and how often they may be guessed', async () => {
    await open(`${P}/entry`);
    await page.getByLabel('Least characters').fill('12');
    await page.getByLabel('Free guesses').fill('5');
    await button('Save').click();
    await vi.waitFor(
      async () =>
        expect(await test.owner.call(operations.accounts.rules, { params: app.dev.params })).toMatchObject({
          leastPassword: 12,
          freeGuesses: 5,
          longestWaitMin: 15,
        }),
      20_000,
    );
  });

  it('shows how sign-ins went over time, and leads from a way to its calls', async () => {
    await test.app('POST', '/sessions', { key: app.dev.clientKey, body: { email: 'runa@hikers.example', password: 'not-this-one' } });
    await test.service.parts.recorder.flush();
    await open(`${P}/entry?tab=outcomes`);
    await text('E-mail address or password is wrong').waitFor();
    await page.getByLabel('Way in the chart').selectOption('Password, and renewals');
    await page.getByRole('heading', { name: 'Password, and renewals over time' }).waitFor();
    await page
      .getByRole('row', { name: /^Password, and renewals/ })
      .getByRole('link')
      .first()
      .click();
    await page.waitForURL(/requests\?filter=/);
    await text('/app/v1/sessions').waitFor();
  });
});
