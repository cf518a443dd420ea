/** Insight and reports in the console: from events of apps to who stops where, and what is read on Monday. */
import { randomUUID } from 'node:crypto';
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, startTestService, type TestApp, type TestService, mailSettings } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

const DAY_MS = 86_400_000;
const MINUTE_MS = 60_000;
let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), mailSettings);
  app = await makeApp(test, 'quillfell-hiker');
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

const open = (path: string) => page.goto(`${test.address}/quillfell-hiker/dev/${path}`);
const button = (name: string | RegExp) => page.getByRole('button', { name, exact: true });
const row = (text: string | RegExp) => page.getByRole('row').filter({ hasText: text });

/** Hikers who open, search and, if they may, book. */
async function hike(count: number, { zone, books }: { zone: string; books: boolean }): Promise<void> {
  for (let i = 0; i < count; i++) {
    const device = `phone-${zone.slice(0, 4).toLowerCase()}-${String(i).padStart(3, '0')}`;
    const registration = { platform: 'ios', appVersion: '2.6.0', os: 'iOS 19', locale: 'nb-NO', timeZone: zone, permission: 'granted' };
    const { body } = await test.app('PUT', `/devices/${device}`, { key: app.dev.clientKey, body: registration });
    const names = ['app_opened', 'dates_chosen', books ? 'booking_sent' : 'form_error'];
    const at = Date.now() - DAY_MS;
    const events = names.map((name, step) => ({
      id: randomUUID(),
      name,
      at: new Date(at + step * MINUTE_MS).toISOString(),
      properties: { nights: 2 },
    }));
    const headers = { 'orchard-device': device, 'orchard-device-secret': body.secret };
    await test.app('POST', '/events', { key: app.dev.clientKey, headers, body: { sentAt: new Date().toISOString(), events } });
  }
}

describe('insight', () => {
  it('says what to do while nothing has come, and why what came was refused', async () => {
    await open('sheet');
    await page.getByText('No events in this period').waitFor();
    await test.app('POST', '/events', {
      key: app.dev.clientKey,
      headers: { 'orchard-device': 'phone-9999' },
      body: { sentAt: new Date().toISOString(), events: [{ id: '1', name: 'app_opened', at: new Date().toISOString() }] },
    });
    await page.getByRole('link', { name: 'Event plan, Refused' }).click();
    await page.getByText('device-unregistered').waitFor();
    await page.getByText(/There is no device phone-9999 here/).waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('shows who gets how far, and leads from those who stop to what they have in common', async () => {
    await hike(20, { zone: 'Europe/Oslo', books: true });
    await hike(14, { zone: 'Asia/Kathmandu', books: false });
    await open('funnels');
    for (const step of ['app_opened', 'dates_chosen', 'booking_sent']) await page.getByLabel('Add step').selectOption(step);
    const steps = page.getByRole('region', { name: 'Steps of the funnel' });
    await steps.getByRole('row').filter({ hasText: '3. booking_sent' }).getByText('58.8 %', { exact: true }).first().waitFor();
    expect(await violations(page)).toEqual([]);
    await steps.getByRole('button', { name: '14 people stopped here: why?' }).click();
    const drawer = page.getByRole('dialog');
    await drawer.getByText('timeZone is Asia/Kathmandu for 100 % of those who stopped, and for 0 % of those who went on').waitFor();
    await drawer.getByRole('row').filter({ hasText: 'form_error' }).getByText('14').waitFor();
    await drawer.getByRole('link', { name: 'phone-asia-000' }).click();
    await page.getByRole('heading', { name: 'Devices' }).waitFor();
  });

  it('answers arrivals, visits, events, returns and paths, each with the state of the page in its address', async () => {
    await open('arrivals?by=timeZone');
    await page.getByText('Europe/Oslo (20)').waitFor();
    await open('visits?by=timeZone');
    await row('Asia/Kathmandu').getByText('14', { exact: true }).first().waitFor();
    await open('insight-events?event=booking_sent&measure=people&by=');
    await page.getByLabel('Measure').selectOption('sum:nights');
    await row('all').getByText('40').waitFor();
    expect(page.url()).toContain('measure=sum');
    await open('returns?step=day');
    await row('All').getByText('34').waitFor();
    await open('paths?event=app_opened');
    await page.getByText('After the first app_opened of 34 visits').waitFor();
    await page.getByRole('img', { name: 'Paths as streams' }).getByText('form_error 14').click();
    await page.getByText('After the first form_error of 14 visits').waitFor();
    await page.getByText('Tree', { exact: true }).click();
    await page.getByText('the visit ended here').waitFor();
  });

  it('is asked over days and in steps of the reader’s own, kept in the address', async () => {
    const day = (ago: number) => new Date(Date.now() - ago * DAY_MS).toISOString().slice(0, 10);
    await open('visits?by=timeZone');
    await page.getByText('Own', { exact: true }).click();
    await page.getByLabel('First day').fill(day(3));
    await page.getByLabel('Last day').fill(day(0));
    await row('Asia/Kathmandu').getByText('14', { exact: true }).first().waitFor();
    await page.getByLabel('Steps of time').selectOption('week');
    await page.getByRole('heading', { name: 'Visits per week' }).waitFor();
    expect(page.url()).toMatch(/range=own.*from=.*until=.*step=week/);
    await page.getByLabel('First day').fill(day(30));
    await page.getByLabel('Last day').fill(day(20));
    await page.getByText('No events in this period').waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('opens the people behind a step, and tells those who came first from those who came back', async () => {
    await open('insight-events?event=booking_sent&by=person');
    await row('first-time').getByText('20', { exact: true }).waitFor();
    await page.getByRole('button', { name: /^Who is behind a step of/ }).click();
    // The day before, on which they all hiked.
    await page.getByRole('menuitem').nth(1).click();
    const drawer = page.getByRole('dialog', { name: /^Who was there from/ });
    await drawer.getByText('20 people').waitFor();
    await drawer.getByRole('link', { name: 'phone-euro-000' }).waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('shows sums beside their means of a day on the sheet, and who was there on a day', async () => {
    await open('sheet');
    const active = page.getByText('Active people', { exact: true }).locator('..');
    await active.getByText('34', { exact: true }).waitFor();
    // 34 people on one of 27 or 28 days that are over.
    await active.getByText(/^1\.[23]\d* a day$/).waitFor();
    await page.getByRole('heading', { name: 'Latency and failures a day' }).waitFor();
    await page.getByRole('button', { name: 'Who is behind a step of People and visits a day' }).click();
    await page.getByRole('menuitem').nth(1).click();
    await page
      .getByRole('dialog', { name: /^Who was there from/ })
      .getByText('34 people')
      .waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('sets a measure against another, and an environment beside another', async () => {
    await open('insight-events?event=booking_sent&by=');
    await page.getByLabel('Against').selectOption('event app_opened');
    await page.getByRole('heading', { name: 'Count of booking_sent beside app_opened, per day' }).waitFor();
    await page.getByRole('switch', { name: 'As a ratio' }).press('Space');
    await page.getByRole('heading', { name: 'Count of booking_sent to app_opened, per day' }).waitFor();
    await page.locator('input').and(page.getByLabel('Beside other environments')).first().click();
    await page.getByRole('option', { name: 'quillfell-hiker/live' }).click();
    await row('quillfell-hiker/dev').getByText('20', { exact: true }).waitFor();
    await row('quillfell-hiker/live').getByText('0', { exact: true }).waitFor();
  });

  it('shows what people do next beside another environment', async () => {
    await open('paths?event=app_opened&depth=1&beside=quillfell-hiker/live');
    await row('quillfell-hiker/dev').getByText('dates_chosen 100 %', { exact: true }).waitFor();
    await row('quillfell-hiker/live').getByText('–').first().waitFor();
  });

  it('plans an event from what came, and shows what arrives', async () => {
    await open('event-plan');
    await row('booking_sent').getByRole('button', { name: 'Plan' }).click();
    await page.getByLabel('What it means').fill('A booking was taken');
    await button('Save').click();
    await row('booking_sent').getByText('planned', { exact: true }).waitFor();
    await page.getByRole('tab', { name: 'Is it sending?' }).click();
    await page.getByLabel('Device').fill('phone-euro-003');
    await row('booking_sent').getByText('phone-euro-003').waitFor();
  });
});

describe('a report', () => {
  it('is saved from a list with its filter, and opens as a page made for printing', async () => {
    await open('requests?filter=status%20%3E%3D%20400');
    await button('Make report').click();
    await page.getByRole('dialog').getByLabel('Name').fill('Refused calls');
    await page.getByRole('dialog').getByRole('button', { name: 'Save' }).click();
    await page.getByRole('heading', { name: 'Refused calls' }).waitFor();
    await page.getByText('Requests where status >= 400').waitFor();
    expect(await violations(page)).toEqual([]);
    await page.emulateMedia({ media: 'print' });
    expect(await page.getByRole('navigation').first().isVisible()).toBe(false);
    await page.emulateMedia({ media: 'screen' });
    await open('reports');
    await row('Refused calls').getByText('last 7 days').waitFor();
  });

  it('stands on a sheet, in an order that is changed by keyboard', async () => {
    const save = (name: string) => test.owner.call(operations.reports.save, { params: app.dev.params, body: { name, source: 'people' } });
    await save('Hikers');
    await open('sheet');
    await button('New sheet').click();
    for (const name of ['Refused calls', 'Hikers']) {
      await page.getByLabel('Put a report on it').selectOption({ label: name });
      await page.getByRole('button', { name: `Move ${name}` }).waitFor();
    }
    const order = () => page.getByRole('button', { name: /^Move / }).evaluateAll((grips) => grips.map((grip) => grip.ariaLabel));
    expect(await order()).toEqual(['Move Refused calls', 'Move Hikers']);
    await page.getByRole('button', { name: 'Move Hikers' }).focus();
    // The list tells of each move before it takes the next key.
    const told = page.locator('[id^=DndLiveRegion]');
    for (const [key, words] of [
      ['Space', 'Hikers is over place 2 of 2.'],
      ['ArrowUp', 'Hikers is over place 1 of 2.'],
      ['Space', 'Dropped Hikers at place'],
    ] as const) {
      await page.keyboard.press(key);
      await told.filter({ hasText: words }).waitFor({ state: 'attached' });
    }
    expect(await order()).toEqual(['Move Hikers', 'Move Refused calls']);
    expect(await violations(page)).toEqual([]);
    await button('Done').click();
    await page.getByRole('region', { name: 'Hikers' }).getByText('New people').first().waitFor();
    const { items } = await test.owner.call(operations.sheets.list, { params: app.dev.params });
    expect(items[0]?.items.map(({ name }) => name)).toEqual(['Hikers', 'Refused calls']);
  });

  it('goes into a digest, which is seen before it is sent, and sent to oneself', async () => {
    await open('reports?tab=digests');
    await button('Add digest').click();
    const dialog = page.getByRole('dialog');
    await dialog.getByLabel('Name').fill('Monday');
    await dialog.getByLabel('Refused calls').check();
    await dialog.getByRole('button', { name: 'Add digest' }).click();
    const digest = page.getByRole('region', { name: 'Monday' });
    await digest.getByRole('button', { name: 'Preview' }).click();
    const shown = page.frameLocator('iframe[title="The digest"]');
    await shown.getByRole('heading', { name: 'Monday' }).waitFor();
    await shown.getByText('Refused calls').first().waitFor();
    await page.keyboard.press('Escape');
    await digest.getByRole('button', { name: 'Send to me now' }).click();
    await digest.getByText(`Sent to ${OWNER.email}.`).waitFor();
    expect(test.simulators.mail.mailsOf(OWNER.email).at(-1)?.subject).toContain('Monday');
  });
});
