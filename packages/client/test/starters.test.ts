/** Starters run as they are: what the console hands out is started, used, and looked at again. */
import { type ChildProcess, execFile, spawn } from 'node:child_process';
import { copyFileSync, mkdtempSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { operations } from '@orchard/contract';
import { type Starter, STARTER_LIBRARY, STARTER_ORIGIN, starterFiles } from '@orchard/core';
import type { Browser } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { openBrowser } from '../../console/test/browser.js';
import { makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';

const LIBRARY = join(import.meta.dirname, '../dist/browser');
let test: TestService;
let app: TestApp;
let browser: Browser;
let server: ChildProcess | undefined;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  browser = await openBrowser();
});
afterAll(async () => {
  server?.kill();
  await browser.close();
  await test.stop();
});

/** Unpacks a starter, as its ZIP holds it. */
function unpacked(starter: Starter, key: string): string {
  const folder = mkdtempSync(join(tmpdir(), `starter-${starter}-`));
  const files = starterFiles(starter, { app: 'quillfell-hiker', environment: 'dev', address: test.address, key, push: true });
  for (const [name, text] of Object.entries(files)) writeFileSync(join(folder, name), text);
  for (const name of STARTER_LIBRARY[starter]) copyFileSync(join(LIBRARY, name), join(folder, name));
  return folder;
}

describe('a starter', () => {
  it('is a ZIP with the key of the client that was chosen', async () => {
    const reply = await test.owner.open(operations.sync.starter, {
      params: { ...app.dev.params, starter: 'node' },
      query: { client: 'hiker-ios' },
    });
    const content = Buffer.from(await reply.arrayBuffer());
    expect(content.subarray(0, 4).toString('latin1')).toBe('PK\u0003\u0004');
    expect(reply.headers.get('content-disposition')).toContain('quillfell-hiker-node.zip');
    for (const name of ['main.mjs', 'orchard-client.json', 'orchard-offline.js'])
      expect(content.includes(`quillfell-hiker-node/${name}`)).toBe(true);
    const refused = await test.owner
      .open(operations.sync.starter, { params: { ...app.dev.params, starter: 'web' }, query: { client: 'office' } })
      .catch((error) => error);
    expect(refused.detail).toContain('office has no client key');
  });

  it('of a program adds, lists and ticks off', async () => {
    const folder = unpacked('node', app.dev.clientKey);
    const run = async (...words: string[]) => (await promisify(execFile)(process.execPath, ['main.mjs', ...words], { cwd: folder })).stdout;
    expect(await run()).toContain('Nothing is to be done');
    await run('add', 'Count the bunks');
    await run('add', 'Read the weather');
    expect(await run('done', '1')).toBe('1. [x] Count the bunks\n2. [ ] Read the weather\n');
  });

  it('of a web app writes down what is to be done, and what is done stays in view', async () => {
    const client = await test.owner.call(operations.clients.create, {
      params: app.dev.params,
      body: { name: 'web', kind: 'web', origins: [STARTER_ORIGIN] },
    });
    server = spawn(process.execPath, ['serve.mjs'], {
      cwd: unpacked('web', client.keys[0]?.key as string),
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    await new Promise((resolve) => server?.stdout?.once('data', resolve));
    const page = await browser.newPage();
    page.setDefaultTimeout(20_000);
    await page.goto(STARTER_ORIGIN);
    await page.getByLabel('E-mail address').fill('wren@hikers.example');
    await page.getByLabel('Password').fill('over-the-col');
    await page.getByRole('button', { name: 'Sign up' }).click();
    await page.getByLabel('What is to be done').fill('Count the bunks');
    await page.getByRole('button', { name: 'Add' }).click();
    await page.getByRole('checkbox', { name: 'Count the bunks' }).check();
    await page.getByText('Up to date').waitFor();
    await page.reload();
    await expect.poll(() => page.getByRole('checkbox', { name: 'Count the bunks' }).isChecked()).toBe(true);
    const { items } = await test.owner.call(operations.devices.list, { params: app.dev.params });
    expect(items).toMatchObject([{ platform: 'web', appVersion: '1.0.0' }]);
  });
});
