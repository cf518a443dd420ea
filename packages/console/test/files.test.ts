/** Files in the console: uploaded, looked at, moved, shared, ruled, deleted and brought back. */
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import sharp from 'sharp';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

const P = '/quillfell-hiker/dev';
let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
const open = (path: string) => page.goto(test.address + path);
const button = (name: string | RegExp) => page.getByRole('button', { name }).first();
const text = (words: string | RegExp) => page.getByText(words).first();
const own = operations.managedFiles;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

it('uploads files to a new folder, and shows them as pictures', async () => {
  await open(`${P}/files`);
  await text('Nothing here yet').waitFor();
  await button('New folder').click();
  await page.getByLabel('Name').fill('photos');
  await button('Make').click();
  await page.getByText('photos', { exact: true }).and(page.locator('[aria-current=location]')).waitFor();
  const picture = await sharp({ create: { width: 900, height: 600, channels: 3, background: '#d99e2b' } })
    .png()
    .toBuffer();
  await page.locator('input[type=file]').setInputFiles([
    { name: 'col.png', mimeType: 'image/png', buffer: picture },
    { name: 'large.bin', mimeType: 'application/octet-stream', buffer: Buffer.alloc(9_000_000, 7) },
  ]);
  await text(/^Uploaded 2 files, 9 MB/).waitFor();
  await page.getByRole('button', { name: 'large.bin' }).waitFor();
  await page.getByText('Pictures', { exact: true }).first().click();
  const shown = page.getByLabel('Files as pictures').locator('img');
  await shown.waitFor();
  expect(await shown.evaluate((img: HTMLImageElement) => img.decode().then(() => img.naturalWidth))).toBe(320);
  expect(await violations(page)).toEqual([]);
});

it('shows one file with what is known of it, moves it, and makes a link to it', async () => {
  await open(`${P}/files?folder=photos&open=photos/col.png`);
  await text('image/png').waitFor();
  await page.getByLabel('Properties', { exact: true }).fill('{"caption":"The col"}');
  await page.getByRole('textbox', { name: 'Path' }).fill('photos/2026/col.png');
  await button('Save').click();
  await expect.poll(() => page.url(), { timeout: 10_000 }).toContain('open=photos%2F2026%2Fcol.png');
  expect(await test.owner.call(own.describe, { params: { ...app.dev.params, path: 'photos/2026/col.png' } })).toMatchObject({
    caption: 'The col',
  });
  await button('Make link').click();
  const address = (await page.locator('section[aria-label=Share] pre').innerText()).trim();
  expect((await fetch(address)).headers.get('content-type')).toBe('image/png');
  await page.locator('section[aria-label="Who may see this"]').getByLabel('to').selectOption('delete');
  await page.locator('section[aria-label="Who may see this"]').getByRole('button', { name: 'Try' }).click();
  await text('Refused').waitFor();
  expect(await violations(page)).toEqual([]);
});

it('gives a folder rules of its own, and makes it public', async () => {
  await open(`${P}/files?tab=rules`);
  await page.getByLabel('Rules for another folder').fill('photos');
  await button('Give it rules of its own').click();
  const folder = page.locator('section[aria-label=photos]');
  await folder.getByLabel('Who may read in photos').selectOption('everyone');
  await folder.getByRole('button', { name: 'Save rules' }).click();
  await folder.getByLabel(/^Public/).click();
  await expect.poll(async () => (await fetch(`${test.address}/files/quillfell-hiker/dev/public/photos/2026/col.png`)).status).toBe(200);
  const { items } = await test.owner.call(own.folderSettings, { params: app.dev.params, query: { path: 'photos/2026' } });
  expect(items[0]?.inForce).toMatchObject({ from: 'photos', read: 'TRUE' });
  expect(await violations(page)).toEqual([]);
});

it('brings a deleted file back, and says what files take', async () => {
  await open(`${P}/files?folder=photos&open=photos/large.bin`);
  await button('Delete').click();
  await page.getByRole('dialog').getByRole('button', { name: 'Delete' }).last().click();
  await open(`${P}/files?tab=deleted`);
  await button('Bring photos/large.bin back').click();
  await text('No deleted files').waitFor();
  await open(`${P}/files?tab=links`);
  await text('photos/2026/col.png').waitFor();
  await open(`${P}/files?tab=storage`);
  await text('with former editions and deleted files').waitFor();
  expect(await page.locator('section[aria-label="By folder"]').innerText()).toMatch(/photos\s+2\s+9 MB/);
  expect(await violations(page)).toEqual([]);
});
