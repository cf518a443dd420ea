/** Sites in the console: pushed, looked at in a browser, edited, and what the browser refused on them. */
import { buffer } from 'node:stream/consumers';
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import yazl from 'yazl';
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
async function zipOf(files: Record<string, string>): Promise<Buffer> {
  const zip = new yazl.ZipFile();
  for (const [path, content] of Object.entries(files)) zip.addBuffer(Buffer.from(content), path);
  zip.end();
  return buffer(zip.outputStream as never);
}

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

it('are made, pushed as a ZIP, and stand at their address at once, with leave to call the API', async () => {
  const web = await test.owner.call(operations.clients.create, { params: app.dev.params, body: { name: 'warden-web', kind: 'web' } });
  await open(`${P}/sites`);
  await button('Add site').click();
  await page.getByLabel('Name').fill('warden');
  await button('Make').click();
  await text('No version yet').waitFor();
  expect(await violations(page)).toEqual([]);
  const script = `const said = await fetch('${test.address}/app/v1/data/huts', { headers: { 'Orchard-Key': '${web.keys[0]?.key}' } }).then((r) => r.json());
document.title = String(said.type ?? 'listed');
const late = document.createElement('script'); late.src = 'https://elsewhere.example/late.js'; document.body.append(late);`;
  const front = await zipOf({
    'index.html': '<body><h1>Warden</h1><script type="module" src="/app.js"></script></body>',
    'app.js': script,
  });
  await page.getByLabel('What is new').fill('First version');
  await page.locator('input[type=file]').setInputFiles({ name: 'front.zip', mimeType: 'application/zip', buffer: front });
  await text('Version 1 is in force: 2 files.').waitFor();
  await test.owner.call(operations.sites.put, {
    params: { ...app.dev.params, site: 'warden' },
    body: { headers: [{ path: '/*', name: 'Content-Security-Policy', value: `script-src 'self'; connect-src ${test.address}` }] },
  });
  const { address } = await test.owner.call(operations.sites.read, { params: { ...app.dev.params, site: 'warden' } });
  const visitor = await openPage(browser);
  await visitor.goto(address);
  await visitor.getByRole('heading', { name: 'Warden' }).waitFor();
  await expect.poll(() => visitor.title()).toBe('/docs/problems/collection-unknown');
  await visitor.close();
});

it('show what a browser refused, with what to do, and how often pages were loaded', async () => {
  await expect
    .poll(async () => (await test.owner.call(operations.sites.reports, { params: { ...app.dev.params, site: 'warden' } })).items.length)
    .toBeGreaterThan(0);
  await open(`${P}/sites?open=warden&tab=reports`);
  await text('If https://elsewhere.example is yours, add it to script-src-elem').waitFor();
  expect(await violations(page)).toEqual([]);
  await open(`${P}/sites?open=warden&tab=loads`);
  await page.locator('section[aria-label=Pages] td', { hasText: /^\/$/ }).waitFor();
  expect(await violations(page)).toEqual([]);
});

it('are edited in the browser, compared, and put back', async () => {
  await open(`${P}/sites?open=warden&tab=edit`);
  await page
    .getByRole('combobox', { name: 'File' })
    .or(page.getByLabel('File', { exact: true }))
    .first()
    .click();
  await page.getByRole('option', { name: 'index.html' }).click();
  await page.getByLabel('Text of index.html').fill('<h1>Wardens</h1>');
  await button('Save as a new version').click();
  await page.getByRole('tab', { name: 'Versions' }).click();
  await text('Changed index.html').waitFor();
  await page.locator('section[aria-label=Versions] button.open').first().click();
  await text('1 file other than in the version before').waitFor();
  await button('Use version 1').click();
  await button('Use version 2').waitFor();
  expect((await test.owner.call(operations.sites.read, { params: { ...app.dev.params, site: 'warden' } })).version).toBe(1);
  expect(await violations(page)).toEqual([]);
});
