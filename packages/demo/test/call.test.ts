/** The worked example of a video call: browsers with made-up cameras agree over a channel, and see each other. */
import { operations } from '@orchard/contract';
import type { Browser, BrowserContext, Page } from 'playwright-core';
import { chromium } from 'playwright-core';
import { afterAll, afterEach, beforeAll, expect, inject, it } from 'vitest';
import { makeApp, PASSWORD, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { SECRET, startTurnServer } from '../../service/test/turnServer.js';
import { seedSite } from '../src/site.js';

/** Pictures are coded in software here: five a second show as well that they move, and leave the cores to others. */
const CAMERA = ['--use-fake-device-for-media-stream=fps=5', '--use-fake-ui-for-media-stream', '--allow-loopback-in-peer-connection'];
/** Three browsers that code pictures, on a machine that does other things too. */
const CALL_MS = 600_000;
let test: TestService;
let app: TestApp;
let site: string;
let browser: Browser;
let server: { port: number; stop: () => Promise<unknown> };
const pages: { page: Page; context: BrowserContext }[] = [];

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  site = await seedSite(test.owner, test.address);
  server = await startTurnServer();
  browser = await chromium.launch({
    executablePath: '/usr/bin/chromium',
    args: ['--headless', '--no-sandbox', '--disable-gpu', '--no-first-run', '--disable-background-networking', ...CAMERA],
  });
  for (const name of ['runa', 'odd', 'siv']) await signUp(test, app.dev.clientKey, name);
});
afterEach(async () => {
  for (const { context } of pages.splice(0)) await context.close();
});
afterAll(async () => {
  await browser?.close();
  await server?.stop();
  await test?.stop();
});

/** Somebody opens the page in a browser of their own, and joins. */
async function join(name: string, call: string, query = ''): Promise<Page> {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
  const page = await context.newPage();
  pages.push({ page, context });
  await page.goto(new URL(`/call/${query}`, site).href);
  await page.getByLabel('E-mail address').fill(`${name}@hikers.example`);
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByLabel('Call', { exact: true }).fill(call);
  await page.getByRole('button', { name: 'Join' }).click();
  await page.locator('li[data-peer=own]').waitFor();
  return page;
}
/** Waits until pictures of others move. */
async function sees(page: Page, others: number, way: RegExp): Promise<void> {
  const captions = page.locator('li:not([data-peer=own]) b');
  await expect
    .poll(() => captions.allInnerTexts(), { timeout: 60_000 })
    .toEqual(Array.from({ length: others }, () => expect.stringMatching(way)));
  await expect
    .poll(
      () =>
        page
          .locator('li:not([data-peer=own]) video')
          .evaluateAll((videos) =>
            videos.map((video) => [(video as HTMLVideoElement).videoWidth > 0, (video as HTMLVideoElement).currentTime > 0.5]),
          ),
      { timeout: 60_000 },
    )
    .toEqual(Array.from({ length: others }, () => [true, true]));
}

it(
  'connects two, a third joins, and who leaves is gone',
  async () => {
    const [runa, odd] = [await join('runa', 'fellgate'), await join('odd', 'fellgate')];
    await Promise.all([sees(runa, 1, /connected directly/), sees(odd, 1, /connected directly/)]);
    await runa.getByText('1 other is on the call.').waitFor();
    const siv = await join('siv', 'fellgate');
    await Promise.all([sees(siv, 2, /connected/), sees(runa, 2, /connected/), sees(odd, 2, /connected/)]);
    await odd.getByRole('button', { name: 'Leave' }).click();
    await Promise.all([sees(runa, 1, /connected/), sees(siv, 1, /connected/)]);
    await odd.getByText('You left the call.').waitFor();
  },
  CALL_MS,
);

it(
  'goes through the TURN server of the team where browsers do not reach each other',
  async () => {
    const params = { app: 'quillfell-hiker', environment: 'dev' };
    await test.owner.call(operations.turn.change, { params, body: { addresses: [`turn:127.0.0.1:${server.port}`], secret: SECRET } });
    const [runa, odd] = [await join('runa', 'tarn', '?relayed'), await join('odd', 'tarn', '?relayed')];
    await Promise.all([sees(runa, 1, /connected through the relay/), sees(odd, 1, /connected through the relay/)]);
  },
  CALL_MS,
);
