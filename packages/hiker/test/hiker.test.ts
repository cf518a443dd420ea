/** The hikers' app in Chromium: installed as a site, used with and without a signal, in two tabs, and killed in the middle. */
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import type { Browser, BrowserContext, Page } from 'playwright-core';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { killChromium, openBrowser, openProfile, violations } from '../../console/test/browser.js';
import { pushHikerApp, seedHikerApp } from '../../demo/src/site.js';
import { makeApp, PASSWORD, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';

let test: TestService;
let app: TestApp;
let browser: Browser;
let address: string;
let webKey: string;
let runa: { id: string; token: string; email: string };
let context: BrowserContext;
let page: Page;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const { params } = app.dev;
  const everyone = { read: 'TRUE', create: 'signed-in', update: 'signed-in', delete: 'signed-in' };
  const make = (name: string, fields: object[], rules: object = everyone) =>
    test.owner.call(operations.collections.create, { params, body: { name, fields, rules } as never });
  const text = (name: string) => ({ name, type: 'text' });
  await make('huts', [
    text('name'),
    text('region'),
    text('state'),
    { name: 'bunks', type: 'integer' },
    { name: 'freeBunks', type: 'integer' },
    { name: 'altitudeM', type: 'integer' },
    { name: 'position', type: 'place' },
    { name: 'amenities', type: 'list' },
  ]);
  await make('bulletins', [text('title'), text('body'), { name: 'level', type: 'integer' }]);
  await make('hazards', [
    text('kind'),
    text('state'),
    text('note'),
    { name: 'position', type: 'place' },
    { name: 'photo', type: 'file' },
    { name: 'seenAt', type: 'time' },
  ]);
  await make(
    'bookings',
    [
      { name: 'hut', type: 'reference', to: 'huts' },
      { name: 'arrives', type: 'date' },
      { name: 'nights', type: 'integer', max: 14 },
      { name: 'party', type: 'integer' },
      text('state'),
      { name: 'guest', type: 'reference', to: 'users' },
    ],
    { read: 'owner', create: 'owner', update: 'owner', delete: 'owner' },
  );
  const client = await test.owner.call(operations.clients.create, { params, body: { name: 'hiker-web', kind: 'web', origins: [] } });
  runa = await signUp(test, app.dev.clientKey, 'runa');
  await put('huts', 'fellgate', {
    name: 'Fellgate',
    region: 'middle',
    state: 'open',
    bunks: 48,
    freeBunks: 40,
    altitudeM: 1190,
    position: { type: 'Point', coordinates: [8.2, 61.2] },
    amenities: ['stove'],
  });
  await put('huts', 'kestrel', {
    name: 'Kestrel Rock',
    region: 'north',
    state: 'full',
    bunks: 18,
    freeBunks: 0,
    altitudeM: 1360,
    position: { type: 'Point', coordinates: [8.5, 61.4] },
    amenities: [],
  });
  await put('bulletins', 'ridge-weather', { title: 'Ridge weather', body: 'Wind from the west.', level: 2 });
  webKey = client.keys[0]?.key as string;
  address = await seedHikerApp(test.owner, test.address, webKey);
  browser = await openBrowser();
});
afterAll(async () => {
  await browser.close();
  await test.stop();
});
beforeEach(async () => {
  context = await browser.newContext({ viewport: { width: 420, height: 800 }, permissions: ['notifications', 'geolocation'] });
  page = await open();
});
afterEach(() => context.close());

const put = (collection: string, id: string, body: object) =>
  test.owner.call(operations.managedRecords.put, { params: { ...app.dev.params, collection, id }, body: body as never });
async function open(): Promise<Page> {
  const opened = await context.newPage();
  opened.setDefaultTimeout(60_000);
  await opened.goto(address);
  await opened.getByText('Up to date').waitFor();
  return opened;
}
async function signIn(on = page): Promise<void> {
  await on.getByRole('link', { name: 'You', exact: true }).click();
  await on.getByLabel('E-mail address').fill(runa.email);
  await on.getByLabel('Password').fill(PASSWORD);
  await on.getByRole('button', { name: 'Sign in' }).click();
  await on.getByRole('button', { name: 'Sign out' }).waitFor();
  await on.getByText('Up to date').waitFor();
}
const book = async (nights: number, on = page) => {
  await on.goto(`${address}/#huts/fellgate`);
  await on.getByLabel('Nights').fill(String(nights));
  await on.getByRole('button', { name: 'Book bunks' }).click();
  await on.getByText('See your bookings').waitFor();
};
const release = (change?: Parameters<typeof pushHikerApp>[3]) =>
  pushHikerApp(test.owner, { address: test.address, clientKey: webKey }, 'Release', change);
const booked = async () =>
  (await test.app('GET', '/data/bookings?limit=100', { key: app.dev.clientKey, token: runa.token })).body.items
    .map(({ nights }: { nights: number }) => nights)
    .sort();
/** Once the worker has the app's files, it is there without a signal. */
const installed = (on = page) =>
  on.waitForFunction(async () => (await caches.open('hiker-1').then((cache) => cache.keys())).some(({ url }) => url.includes('/assets/')));

describe('the hikers’ app', () => {
  it('shows huts, weather and the trail, and can be used by everybody', async () => {
    await page.getByRole('link', { name: 'Fellgate, open' }).waitFor();
    await page.getByText('40 of 48 bunks free').waitFor();
    await page.getByRole('complementary', { name: 'Ridge weather' }).getByText('Wind from the west.').waitFor();
    expect(await violations(page)).toEqual([]);
    await put('bulletins', 'ridge-weather', { title: 'Ridge weather', body: 'Storm from noon.', level: 4 });
    await page.getByText('Storm from noon.').waitFor({ timeout: 5_000 });
    await put('bulletins', 'ridge-weather', { title: 'Ridge weather', body: 'Wind from the west.', level: 2 });
  });

  it('opens without a signal, books, and brings the booking when there is one', async () => {
    await signIn();
    await installed();
    await context.setOffline(true);
    await page.reload();
    await page.getByText('No signal').waitFor();
    await book(3);
    await page.getByText('1 waiting').waitFor();
    await page.getByRole('link', { name: 'Bookings', exact: true }).click();
    await page.getByText('on this phone').waitFor();
    await context.setOffline(false);
    await page.getByText('Up to date').waitFor();
    await expect.poll(booked).toContain(3);
    await page.getByText('on this phone').waitFor({ state: 'detached' });
  });

  it('keeps what was written when the browser is killed in the middle, and counts it once', async () => {
    const profile = mkdtempSync(join(tmpdir(), 'hiker-profile-'));
    const start = async () => {
      await context.close().catch(() => undefined);
      context = await openProfile(profile);
      page = await open();
    };
    await start();
    await signIn();
    await installed();
    await context.setOffline(true);
    await book(4);
    // Written, and not yet sent.
    await killChromium(profile);
    await start();
    // Chromium writes localStorage late: the session may be lost with it, and what was written waits for its user.
    await page.getByRole('link', { name: 'You', exact: true }).click();
    await page.getByRole('button', { name: /^Sign/ }).waitFor();
    if (await page.getByLabel('Password').isVisible()) await signIn();
    await expect.poll(async () => (await booked()).filter((nights: number) => nights === 4)).toEqual([4]);
  });

  it('shows in two tabs what is written in one, and signs both out', async () => {
    await signIn();
    const other = await open();
    await other.goto(`${address}/#bookings`);
    await context.setOffline(true);
    await book(5);
    await other.getByText('5 nights').waitFor();
    await context.setOffline(false);
    await expect.poll(booked).toContain(5);
    await page.getByText('1 waiting').waitFor({ state: 'detached' });
    await page.getByRole('link', { name: 'You', exact: true }).click();
    await page.getByRole('button', { name: 'Sign out' }).click();
    await page.getByRole('button', { name: 'Sign in' }).waitFor();
    await other.getByText('Sign in to see your bookings').waitFor();
  });

  it('starts anew where a browser has cleared what it kept', async () => {
    await signIn();
    await page.evaluate(async () => {
      for (const { name } of await indexedDB.databases()) if (name) indexedDB.deleteDatabase(name);
      localStorage.clear();
    });
    page = await open();
    await page.getByText('40 of 48 bunks free').waitFor();
  });

  it('asks before a sign-out loses what was not sent, and tells of what was refused', async () => {
    await signIn();
    await page.goto(`${address}/#huts/fellgate`);
    await page.getByLabel('Nights').evaluate((input) => input.removeAttribute('max'));
    await page.getByLabel('Nights').fill('40');
    await page.getByRole('button', { name: 'Book bunks' }).click();
    await page.getByRole('link', { name: '1 to look at' }).click();
    await page.getByText('must be at most 14').waitFor();
    await page.getByRole('button', { name: 'Sign out' }).click();
    await page.getByText('1 change has not reached the service').waitFor();
    await page.getByRole('button', { name: 'Let it go' }).click();
    await page.getByText('must be at most 14').waitFor({ state: 'detached' });
  });

  it('takes a new version while tabs are open and changes wait, and loses nothing', async () => {
    await signIn();
    await installed();
    await context.setOffline(true);
    await book(5);
    await page.getByText('1 waiting').waitFor();
    await context.setOffline(false);
    await release((files) => {
      const script = Object.keys(files).find((path) => path.startsWith('assets/index-') && path.endsWith('.js')) as string;
      const next = script.replace(/-[\w-]{8}\.js$/, '-version2.js');
      files[next] = files[script] as Buffer;
      delete files[script];
      const page = files['index.html'] as Buffer;
      files['index.html'] = Buffer.from(String(page).replace(script, next).replace('<title>Quillfell Hiker', '<title>Quillfell Hiker 2'));
      files['worker.js'] = Buffer.concat([files['worker.js'] as Buffer, Buffer.from('// 2')]);
    });
    await page.evaluate(async () => (await navigator.serviceWorker.ready).update());
    const kept = () => page.evaluate(async () => (await (await caches.open('hiker-1')).keys()).map(({ url }) => new URL(url).pathname));
    await expect.poll(kept, { timeout: 60_000 }).toContainEqual(expect.stringMatching('-version2.js'));
    await expect.poll(booked).toContain(5);
    // The tab of the version before goes on beside one of the new.
    const next = await open();
    expect(await next.title()).toBe('Quillfell Hiker 2');
    await page.getByRole('link', { name: 'Bookings', exact: true }).click();
    // The form is a new one only once the hut's page has gone.
    await page.getByText('5 nights').first().waitFor();
    await book(6);
    await next.goto(`${address}/#bookings`);
    await next.getByText('6 nights').waitFor();
    await expect.poll(booked).toContain(6);
    // The new version is complete, with the parts it loads on demand, so that it opens without a signal.
    for (const part of ['offline', 'push', 'upload']) expect(await kept()).toContainEqual(expect.stringMatching(`/assets/${part}-`));
    await context.setOffline(true);
    await next.reload({ waitUntil: 'commit' });
    await next.getByText('No signal').waitFor();
    expect(await next.title()).toBe('Quillfell Hiker 2');
    await release();
  });

  it('shows what is pushed while it is closed', async () => {
    await installed();
    const session = await context.newCDPSession(page);
    const registered = new Promise<string>((resolve) =>
      session.on(
        'ServiceWorker.workerRegistrationUpdated',
        ({ registrations }) => registrations[0] && resolve(registrations[0].registrationId),
      ),
    );
    await session.send('ServiceWorker.enable');
    const registrationId = await registered;
    await page.goto('about:blank');
    const data = JSON.stringify({ title: 'Storm on the ridge', body: 'Turn back at Fellgate.' });
    await session.send('ServiceWorker.deliverPushMessage', { origin: new URL(address).origin, registrationId, data });
    page = await open();
    const titles = () =>
      page.evaluate(async () => (await (await navigator.serviceWorker.ready).getNotifications()).map(({ title, body }) => [title, body]));
    await expect.poll(titles).toEqual([['Storm on the ridge', 'Turn back at Fellgate.']]);
  });
});
