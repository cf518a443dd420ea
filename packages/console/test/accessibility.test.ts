/** Every page against the rules of WCAG 2.1 A and AA, in both schemes. */
import { operations } from '@orchard/contract';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { makeApp, startTestService, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, show, signIn, violations } from './browser.js';

let test: TestService;
let browser: Browser;
let page: Page;

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  const { dev } = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.managedRecords.put, {
    params: { ...dev.params, collection: 'huts', id: 'hollow-col' },
    body: { name: 'Hollow Col', bunks: 14, open: true, position: { type: 'Point', coordinates: [8.3, 61.3] }, amenities: ['stove'] },
  });
  const report = await test.owner.call(operations.reports.save, { params: dev.params, body: { name: 'Monday', source: 'summary' } });
  await test.owner.call(operations.sheets.add, { params: dev.params, body: { name: 'Board', items: [{ report: report.id }] } });
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

it.each([
  'overview',
  'data',
  'data/huts',
  'data/huts?tab=map',
  'data/huts?tab=fields',
  'data/huts?tab=rules',
  'data/huts?tab=indexes',
  'data/huts?tab=files',
  'users',
  'users?open=new',
  'entry',
  'entry?tab=mails',
  'entry?tab=fields',
  'entry?tab=ways',
  'entry?tab=outcomes',
  'entry?tab=roles',
  'entry?tab=page',
  'compose',
  'sent',
  'topics',
  'channels?add=1',
  'channels?add=calls',
  'functions?panel=secrets',
  'files',
  'files?tab=rules',
  'sites',
  'broadcasts',
  'broadcasts?panel=settings',
  'devices',
  'sms-inbox?view=opt-outs',
  'sms-inbox?view=settings',
  'gateways?add=1',
  'requests',
  'condition',
  'condition?open=quillfell-hiker/dev/few-failures',
  'incidents',
  'alerts',
  'log',
  'errors',
  'jobs',
  'reports',
  'reports?tab=digests',
  'sheet',
  'sheets/Board?arrange=1',
  'where',
  'paths?event=hut_opened',
  'visits',
  'arrivals',
  'returns',
  'insight-events',
  'event-plan',
  'event-plan?tab=settings',
  'funnels',
  'api-use?range=1h',
  'setup',
  'first-calls',
  'sync',
  'backups',
  'backups?tab=records',
  'backups?tab=settings',
  'releases',
  'releases?with=template:bookings',
  'releases?tab=history',
  'environments',
])('has no accessibility fault on %s, light or dark', async (path) => {
  await show(page, `/quillfell-hiker/dev/${path}`);
  for (const [colorScheme, rules] of [['light', 'all'] as const, ['dark', 'colours'] as const]) {
    await page.emulateMedia({ colorScheme });
    await page.getByRole('heading', { level: 1 }).waitFor();
    await page.locator('[aria-busy=true]').first().waitFor({ state: 'detached' });
    expect(await violations(page, rules)).toEqual([]);
  }
  await page.emulateMedia({ colorScheme: 'light' });
});
