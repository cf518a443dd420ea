/** Releases in the console: a difference looked at, narrowed, applied, undone, and approved by somebody else. */
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, memberClient, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn } from './browser.js';

const own = operations.setups;
let test: TestService;
let app: TestApp;
let live: { app: string; environment: string };
let browser: Browser;
let page: Page;
const open = (path: string) => page.goto(test.address + path);
const button = (name: string | RegExp) => page.getByRole('button', { name }).first();
const text = (words: string | RegExp) => page.getByText(words).first();

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  live = { app: 'quillfell-hiker', environment: 'live' };
  const { params } = app.dev;
  await test.owner.call(operations.collections.create, { params, body: { name: 'huts', fields: [{ name: 'bunks', type: 'integer' }] } });
  await test.owner.call(operations.topics.put, { params: { ...params, topic: 'ridge' }, body: { title: 'The ridge' } });
  await test.owner.call(operations.managedRecords.put, {
    params: { ...params, collection: 'huts', id: 'fellgate' },
    body: { bunks: 48 } as never,
  });
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

describe('the page Releases', () => {
  it('shows what promoting would do, applies what is chosen, and takes a sample', async () => {
    await open('/quillfell-hiker/live/releases');
    await page.getByLabel('Compare with').selectOption('from:quillfell-hiker/dev');
    await text('2 to make').waitFor();
    await page.getByLabel('Apply topics/ridge').uncheck();
    await page.getByLabel('What it is for').fill('Huts for everybody');
    // The release shows, though the difference is read again once it is done, and the rest of the page after that.
    await page.route('**/setup/compare', (route) => setTimeout(() => void route.continue(), 2_000));
    await page.route('**/setup/settings', (route) => setTimeout(() => void route.continue(), 4_000));
    await button('Apply to quillfell-hiker/live').click();
    await button('Take a sample of its records').click();
    await text('1 record and 0 made-up users').waitFor();
    const { setup } = await test.owner.call(own.read, { params: live });
    expect(Object.keys(setup)).not.toContain('topics');
    expect(Object.keys(setup.collections as object)).toEqual(['huts']);
  });

  it('goes back by the release before, after saying what that loses', async () => {
    await open('/quillfell-hiker/live/releases?tab=history');
    await page.getByRole('cell', { name: 'Huts for everybody' }).waitFor();
    await page.locator('tbody tr').first().getByRole('button').first().click();
    await page.getByRole('link', { name: 'Undo …' }).click();
    await text('1 record is deleted with it.').waitFor();
    expect(await button('Apply to quillfell-hiker/live').isDisabled()).toBe(true);
    await page.getByLabel('Apply it although data is lost').check();
    await button('Apply to quillfell-hiker/live').click();
    await text('As it was before').waitFor({ state: 'detached' });
    await expect.poll(async () => Object.keys((await test.owner.call(own.read, { params: live })).setup)).not.toContain('collections');
  });

  it('has a second member approve what was proposed, and tells of changes by hand', async () => {
    await test.owner.call(own.changeSettings, { params: live, body: { approval: true } });
    const account = { email: 'ines@quillfell.example', password: 'orchard-in-bloom' };
    await test.owner.call(operations.members.add, {
      body: { ...account, name: 'Ines', roles: [{ app: 'quillfell-hiker', role: 'maintainer' }] },
    });
    const ines = await memberClient(test.address, account);
    const { id } = await ines.call(own.apply, { params: live, body: { from: app.dev.params, only: ['topics'], why: 'The ridge' } });
    await open(`/quillfell-hiker/live/releases?tab=history&open=${id}`);
    await page.getByLabel('Comment').fill('Go');
    await button('Approve and apply').click();
    await text('Mira Quill: Go').waitFor();
    await expect.poll(async () => (await test.owner.call(own.release, { params: { ...live, release: id } })).state).toBe('done');
    await test.owner.call(operations.topics.put, { params: { ...live, topic: 'storms' }, body: {} });
    await open('/quillfell-hiker/live/releases');
    await text('Changed by hand since the last release').waitFor();
    await text('topics/storms').waitFor();
  });
});
