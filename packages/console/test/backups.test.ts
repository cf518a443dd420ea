/** Backups in the console: made, proved, looked into, and gone back to; and an environment that moves. */
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it, vi } from 'vitest';
import { callApp, makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn } from './browser.js';

let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
const open = (path: string) => page.goto(`${test.address}/quillfell-hiker/dev/${path}`);
const button = (name: string | RegExp) => page.getByRole('button', { name }).first();
const text = (words: string | RegExp) => page.getByText(words).first();
const put = (id: string, name: string) => callApp(test.address, 'PUT', `/data/huts/${id}`, { key: app.dev.serverKey, body: { name } });
const read = async (id: string) => (await callApp(test.address, 'GET', `/data/huts/${id}`, { key: app.dev.serverKey })).body;

// Whole environments are restored, on a machine that does other things too.
vi.setConfig({ testTimeout: 300_000 });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), { backupKeys: ['e5'.repeat(32)] });
  app = await makeApp(test, 'quillfell-hiker');
  await put('fellgate', 'Fellgate');
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

describe('the page Backups', () => {
  it('says what would be lost now, makes a backup and proves that it would hold', async () => {
    await open('backups');
    await text('There is no backup yet.').waitFor();
    await page.getByLabel('What it is for').fill('before the season');
    await button('Make a backup now').click();
    await text('yes: restored and compared').waitFor();
    await text(/If this machine burnt now, everything after that would be lost/).waitFor();
  });

  it('tells what restoring would lose, and restores beside the environment', async () => {
    await put('since', 'Made since');
    await open('backups');
    await page.locator('tbody tr').first().getByRole('button').first().click();
    await button('Restore …').click();
    await text('1 change of records and users since').waitFor();
    const row = page.getByRole('row', { name: /huts/ });
    expect(await row.getByRole('cell').allInnerTexts()).toEqual(['huts', '2', '1']);
    await page.getByLabel('As a new environment').fill('rehearsal');
    await button('Restore as rehearsal').click();
    await text('a new environment, rehearsal').waitFor();
    await page.getByRole('cell', { name: 'done' }).first().waitFor();
    const params = { app: 'quillfell-hiker', environment: 'rehearsal', collection: 'huts' };
    expect((await test.owner.call(operations.managedRecords.list, { params, query: {} })).items).toHaveLength(1);
  });

  it('brings records back as they were at a moment', async () => {
    const moment = new Date().toISOString();
    await put('fellgate', 'spoilt by an import');
    await open('backups?tab=records');
    await page.getByLabel('Collection').selectOption('huts');
    await page.getByLabel('Moment').fill(moment);
    await button('Bring records back').click();
    await text('records of huts').waitFor();
    await expect.poll(async () => (await read('fellgate')).name).toBe('Fellgate');
  });

  it('keeps when backups are made, and says what is wrong with a host', async () => {
    await open('backups?tab=settings');
    await page.getByLabel('A backup is made').selectOption('week');
    await page.getByLabel('Weeks').fill('9');
    await button('Save').click();
    await expect
      .poll(async () => test.owner.call(operations.backups.settings, { params: app.dev.params }))
      .toMatchObject({ schedule: { every: 'week' }, keep: { weeks: 9 } });
    await page.getByLabel('Backups of all environments are kept').selectOption('sftp');
    await page.getByPlaceholder('keep.quillfell.example').fill('127.0.0.1');
    await page.getByLabel('Port').fill('1');
    await page.getByLabel('User').fill('orchard');
    await button('Try it and save').click();
    await text('does not answer as an SSH server').waitFor();
  });
});
