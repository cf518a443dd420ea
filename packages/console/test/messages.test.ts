import { operations } from '@orchard/contract';
import { SMS_ACCOUNT } from '@orchard/simulators';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

const P = '/quillfell-hiker/dev';
const PHONES = ['Runa', 'Ivo', 'Aino'];
let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
const text = (words: string | RegExp) => page.getByText(words).first();
const button = (name: string | RegExp) => page.getByRole('button', { name });
const open = (path: string) => page.goto(test.address + path);
const choose = async (label: string, option: string | RegExp) => {
  await page.getByRole('combobox', { name: label }).click();
  await page.getByRole('option', { name: option }).click();
  await page.keyboard.press('Escape');
};
const kept = async (filter: string) =>
  (await test.owner.call(operations.notifications.list, { params: app.dev.params, query: { filter } })).items;
const phones = () => test.simulators.handsets();

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const like = { platform: 'android' as const, model: 'Larch 5', os: 'Android 16', appVersion: '2.4.0', timeZone: 'Europe/Oslo' };
  await test.simulators.connect(
    { address: test.address, clientKey: app.dev.clientKey },
    PHONES.map((name, i) => ({
      ...like,
      name,
      locale: i === 0 ? 'nb-NO' : 'en-GB',
      person: { name, email: `${name.toLowerCase()}@hikers.example`, password: 'ridge-and-river' },
    })),
  );
  for (const phone of phones()) {
    await phone.signIn();
    await phone.allow();
  }
  const settings = { host: '127.0.0.1', port: test.simulators.sms.port, systemId: SMS_ACCOUNT.systemId, sender: 'Quillfell' };
  await test.owner.call(operations.gateways.create, {
    params: app.dev.params,
    body: { kind: 'smpp', name: 'heron', stage: 'trial', settings, password: SMS_ACCOUNT.password } as never,
  });
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

it('makes topics, gives one a role, and composes for its followers', async () => {
  await open(`${P}/topics`);
  for (const name of ['ridge-weather', 'rescue']) {
    await page.getByLabel('Name of a new topic').fill(name);
    await button('Add topic').click();
    await page.getByRole('button', { name }).waitFor();
  }
  const devices = phones().map(({ state }) => state.deviceId);
  const follow = (topic: string, some: string[]) =>
    test.owner.call(operations.topics.addFollowers, { params: { ...app.dev.params, topic }, body: { devices: some } });
  await follow('ridge-weather', devices);
  await follow('rescue', devices.slice(0, 1));
  await page.reload();
  await button('rescue').click();
  await text('1 device and 0 users').waitFor();
  await page.getByLabel('Only users with this role may follow it').fill('warden');
  await button('Save').click();
  await page.getByRole('cell', { name: 'warden' }).waitFor();
  expect(await violations(page)).toEqual([]);
  await page.getByRole('link', { name: 'Compose for its followers' }).click();
  await page.getByLabel('Title').fill('x');
  await text('of 1 reachable').waitFor();
});

it('counts followers of any, of all and of none of some topics, and those of them that fit a filter', async () => {
  await open(`${P}/compose?topic=ridge-weather`);
  await page.getByLabel('Title').fill('Ridge closed');
  await text('of 3 reachable').waitFor();
  await choose('But not followers of', /^rescue/);
  await text('of 2 reachable').waitFor();
  await page.getByLabel('And only devices that match').fill("locale = 'nb-NO'");
  await text('of 0 reachable').waitFor();
  await page.getByLabel('And only devices that match').fill("language = 'nb'");
  await page.getByRole('alert').filter({ hasText: 'language' }).waitFor();
  await page.getByLabel('And only devices that match').fill('');
  await button('From code').click();
  await text('--not-topic rescue').waitFor();
});

it('sends to some users named one by one', async () => {
  await open(`${P}/compose`);
  await page.getByRole('radiogroup', { name: 'Recipients by' }).getByText('Users').click();
  for (const name of ['Runa', 'Aino']) {
    await page.getByRole('combobox', { name: 'Users' }).fill(name);
    await page.getByRole('option', { name: new RegExp(name) }).click();
  }
  await page.keyboard.press('Escape');
  await page.getByLabel('Title').fill('Your bunks');
  await text('of 2 reachable').waitFor();
  expect(await violations(page)).toEqual([]);
  await button('Review').click();
  await button('Send now').click();
  await text('All deliveries succeeded.').waitFor();
  await eventually(() => phones()[0]?.state.received.some(({ title }) => title === 'Your bunks'));
  expect(phones()[1]?.state.received.some(({ title }) => title === 'Your bunks')).toBe(false);
  await page.getByRole('link', { name: 'Sent' }).click();
  await page.getByRole('cell', { name: '2 users' }).waitFor();
});

it('keeps how it is sent: a time on each clock, a pace, quiet hours, an expiry and a fall-back', async () => {
  await open(`${P}/compose`);
  await page.getByLabel('Title').fill('First snow');
  await choose('When', 'At a local time of each recipient');
  await page.locator('input[type=datetime-local]').fill('2031-11-01T07:00');
  await page.getByLabel('Respect quiet hours').check();
  await page.getByLabel('From', { exact: true }).fill('21:30');
  await page.getByLabel('At most, per second').fill('50');
  await page.getByLabel('Time to live, hours').fill('2');
  await page.getByLabel('Replaces an earlier one with the name').fill('snow');
  await choose('If not received, also send', 'an SMS');
  await page.getByLabel('After minutes').fill('15');
  await page.getByLabel('Text of that message').fill('SNOW ABOVE 900 M');
  expect(await violations(page)).toEqual([]);
  await button('Review').click();
  await text('It is sent at 2031-11-01 07:00 in each recipient’s time zone.').waitFor();
  await text('Nobody receives it between 21:30 and 07:00 of their day.').waitFor();
  await button('Schedule').click();
  await page.getByRole('heading', { name: 'First snow' }).waitFor();
  await text(/scheduled for 2031-11-01 07:00 in each recipient’s time zone/).waitFor();
  expect(await kept("state = 'scheduled'")).toMatchObject([
    {
      start: { local: '2031-11-01T07:00' },
      quiet: { from: '21:30', to: '07:00' },
      perSecond: 50,
      ttlS: 7200,
      replaces: 'snow',
      fallBack: { way: 'sms', afterMin: 15, body: 'SNOW ABOVE 900 M' },
    },
  ]);
  await button('Stop').click();
  await button('Resume').waitFor();
  expect(await kept("state = 'scheduled'")).toEqual([]);
});

it('compares two contents, and shows the numbers of each', async () => {
  await open(`${P}/compose`);
  await page.getByLabel('Title').fill('Two bunks free');
  await button('Compare two contents').click();
  await page.getByLabel('Title').nth(1).fill('Sleep at Kestrel Rock tonight');
  await button('Review').click();
  await button('Send now').click();
  await page.getByRole('heading', { name: 'By platform and content' }).waitFor();
  const rows = page.getByRole('row', { name: /^android (first|second)/ });
  await eventually(async () => {
    const totals = (await rows.allTextContents()).map((row) => Number(/^android(?:first|second)(\d)/.exec(row)?.[1]));
    return totals.reduce((sum, total) => sum + total, 0) === PHONES.length;
  });
});

it('stops a slow one on its way, and goes on with it', async () => {
  await open(`${P}/compose`);
  await page.getByText('SMS', { exact: true }).click();
  await page.getByText('Numbers', { exact: true }).click();
  const numbers = Array.from({ length: 30 }, (_, i) => `+120255501${String(i).padStart(2, '0')}`);
  await page.getByRole('textbox', { name: 'Numbers' }).fill(numbers.join('\n'));
  await page.getByLabel('Text').fill('Storm from noon.');
  await page.getByLabel('At most, per second').fill('2');
  await text('of 30 reachable').waitFor();
  await button('Review').click();
  await button('Send now').click();
  await button('Stop').click();
  await text(/Stopped: \d+ of 30 processed\./).waitFor();
  const [stopped] = await kept("state = 'stopped'");
  expect(stopped?.deliveries.queued).toBeGreaterThan(0);
  expect(await violations(page)).toEqual([]);
  await button('Resume').click();
  await text(/Sending: \d+ of 30/).waitFor();
  await button('Stop').click();
  await button('Resume').waitFor();
});

it('shows a reply, obeys it, and lets a member record an opt-out', async () => {
  const number = '+12025550142';
  test.simulators.sms.sendFrom(number, 'Quillfell', 'Stop');
  await open(`${P}/sms-inbox`);
  await page.getByRole('cell', { name: 'opt-out' }).waitFor();
  await page.getByText('Opt-outs', { exact: true }).click();
  await page.getByRole('cell', { name: 'Replied “Stop”.' }).waitFor();
  await page.getByLabel('Number or address').fill('1234');
  await page.getByRole('textbox', { name: 'Reason' }).fill('Asked at the desk.');
  await button('Record').click();
  await text(/Write it as \+/).waitFor();
  await page.getByLabel('Number or address').fill('Aino@hikers.example');
  await button('Record').click();
  await page.getByRole('cell', { name: 'aino@hikers.example' }).waitFor();
  await page.getByLabel('Number or address').fill(number);
  await page.getByRole('combobox', { name: 'State' }).selectOption('in');
  await page.getByRole('textbox', { name: 'Reason' }).fill('Called on Monday.');
  await button('Record').click();
  await page.getByRole('cell', { name: 'Called on Monday.' }).waitFor();
  expect(await violations(page)).toEqual([]);
  const { items } = await test.owner.call(operations.sms.optOuts, { params: app.dev.params, query: { sort: 'address' } });
  expect(items.map(({ address, state }) => [address, state])).toEqual([
    [number, 'in'],
    ['aino@hikers.example', 'out'],
  ]);
});

it('leads from why not all to the deliveries behind it, and to the network’s answer', async () => {
  await phones()[2]?.uninstall();
  await open(`${P}/compose`);
  await page.getByLabel('Title').fill('Anybody there');
  await button('Review').click();
  await button('Send now').click();
  await text(/failed: /).waitFor();
  await page.locator('.panel', { hasText: 'Reasons for non-delivery' }).getByRole('link').first().click();
  const found = page.getByRole('region', { name: 'Deliveries' }).locator('button.open');
  await eventually(async () => (await found.count()) === 1);
  await found.click();
  const drawer = page.getByRole('dialog', { name: 'Delivery' });
  await drawer.getByText('410', { exact: true }).waitFor();
  await drawer.getByRole('link', { name: phones()[2]?.state.deviceId as string }).click();
  await text(/retired/i).waitFor();
});

it('makes a new web push key while phones of the old one are still reached', async () => {
  await open(`${P}/gateways?open=web-push`);
  await button('Rotate key').click();
  await page.getByRole('dialog', { name: 'Rotate the web push key?' }).getByRole('button', { name: 'Rotate key' }).click();
  await eventually(async () => {
    const { credential } = await test.owner.call(operations.gateways.read, { params: { ...app.dev.params, gateway: 'web-push' } });
    return /2|earlier|before/.test(credential.text);
  });
  const { body } = await test.app('POST', '/notifications', {
    key: app.dev.serverKey,
    body: { title: 'Still here', audience: { everyone: true } },
  });
  await open(`${P}/sent/${body.id}`);
  await text('All deliveries succeeded.').waitFor();
});

it('filters what was sent by state and way', async () => {
  await open(`${P}/sent`);
  await page.getByText('Stopped', { exact: true }).click();
  await page.getByRole('button', { name: 'First snow' }).waitFor();
  await page.getByRole('button', { name: 'Your bunks' }).waitFor({ state: 'detached' });
  await page.getByText('SMS', { exact: true }).click();
  await page.getByRole('button', { name: 'Storm from noon.' }).waitFor();
  expect(await violations(page)).toEqual([]);
});
