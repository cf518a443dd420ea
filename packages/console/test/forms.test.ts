/** Forms of the console: what is wrong is said at its field before anything is sent, and what the service says stands there too. */
import { operations } from '@orchard/contract';
import type { Browser, Locator, Page } from 'playwright-core';
import { afterAll, beforeAll, beforeEach, describe, expect, inject, it } from 'vitest';
import { makeApp, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

const P = '/quillfell-hiker/dev';
let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
/** Writes that the page has sent. */
let sent: string[] = [];
const open = (path: string) => page.goto(test.address + P + path);
const dialog = () => page.getByRole('dialog');
/** What stands under a field as its error. */
const errorOf = (field: Locator) =>
  field.evaluate((input) => {
    const ids = input.getAttribute('aria-describedby')?.split(' ') ?? [];
    return ids.map((id) => document.getElementById(id)?.textContent ?? '').join(' ');
  });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  browser = await openBrowser();
  page = await openPage(browser);
  await signIn(page, test.address);
  page.on('request', (request) => {
    if (request.method() !== 'GET') sent.push(`${request.method()} ${new URL(request.url()).pathname.split('/').slice(-2).join('/')}`);
  });
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});
beforeEach(() => {
  sent = [];
});

describe('an account for somebody', () => {
  beforeEach(() => open('/users?open=new'));
  const add = () => dialog().getByRole('button', { name: 'Add user' }).click();

  it('says at each field what it must be, and sends nothing', async () => {
    await dialog().getByLabel('E-mail address').fill('wren');
    await dialog().locator('input[type=password]').fill('short');
    await add();
    await expect.poll(() => errorOf(dialog().getByLabel('E-mail address'))).toContain('Must be an e-mail address, such as mira@');
    expect(await errorOf(dialog().locator('input[type=password]'))).toContain('Must be at least 8 characters.');
    expect(sent).toEqual([]);
    expect(await violations(page)).toEqual([]);
  });

  it('says at its field what only the service knows, and is sent again when that is mended', async () => {
    await dialog().getByLabel('E-mail address').fill('wren@hikers.example');
    await dialog().locator('input[type=password]').fill('password1');
    await add();
    await expect.poll(() => errorOf(dialog().locator('input[type=password]'))).toContain('easy to guess');
    await dialog().locator('input[type=password]').fill('over-the-second-col');
    await add();
    await dialog().getByText('wren@hikers.example').waitFor();
    expect(sent).toEqual(['POST dev/users', 'POST dev/users']);
  });
});

describe('a user', () => {
  it('keeps its fields as JSON: what is not JSON is said, what was taken out is gone', async () => {
    const { id } = await signUp(test, app.dev.clientKey, 'runa');
    const at = { ...app.dev.params, user: id };
    await test.owner.call(operations.users.patch, { params: at, body: { data: { pace: 'slow', club: 'north' } } });
    await open(`/users?open=${id}`);
    const fields = dialog().getByLabel('User fields');
    await fields.fill('{"pace": ');
    await dialog().getByRole('button', { name: 'Save' }).click();
    await expect.poll(() => errorOf(fields)).toContain('Must be a JSON object');
    expect(sent).toEqual([]);
    await fields.fill('{"pace": "fast"}');
    await dialog().getByRole('button', { name: 'Save' }).click();
    await expect.poll(async () => (await test.owner.call(operations.users.read, { params: at })).data).toEqual({ pace: 'fast' });
  });

  it('is disabled and let in again by one switch', async () => {
    const { items } = await test.owner.call(operations.users.list, { params: app.dev.params, query: { filter: "email LIKE 'runa%'" } });
    const at = { ...app.dev.params, user: items[0]?.id as string };
    for (const disabled of [true, false]) {
      await open(`/users?open=${at.user}`);
      await dialog().getByRole('switch').press('Space');
      await dialog().getByRole('button', { name: 'Save' }).click();
      await expect.poll(async () => (await test.owner.call(operations.users.read, { params: at })).disabled).toBe(disabled);
    }
  });
});

describe('names', () => {
  it.each([
    ['/topics', 'Name of a new topic', 'Ridge Weather', 'Add topic', 'Must be a lower-case letter or digit'],
    ['/environments', 'New environment', 'Staging!', 'Add environment', 'Must be a lower-case letter'],
  ])('on %s must have the right form', async (path, label, name, button, words) => {
    await open(path);
    await page.getByLabel(label).fill(name);
    await page.getByRole('button', { name: button }).click();
    await page.getByText(words).waitFor();
    expect(sent).toEqual([]);
  });

  it('of a collection and of a client, too, each in its dialog', async () => {
    await open('/data');
    await page.getByRole('button', { name: 'Add collection' }).click();
    await dialog().getByLabel('Name').fill('Huts');
    await dialog().getByRole('button', { name: 'Add collection' }).click();
    await dialog().getByText('Must be a lower-case letter, then up to 62').waitFor();
    await open('/setup');
    await page.getByRole('button', { name: 'Add client' }).click();
    await dialog().getByLabel('Kind').selectOption('web');
    await dialog().getByLabel('Name').fill('hiker-web');
    await dialog().getByLabel('Allowed web origins').last().fill('hiker.quillfell.example');
    await page.keyboard.press('Enter');
    await dialog().getByRole('button', { name: 'Add client' }).click();
    await dialog().getByText('Must be a web origin').waitFor();
    expect(sent).toEqual([]);
    expect(await violations(page)).toEqual([]);
  });

  it('that are taken are said by the service, beside the button', async () => {
    await open('/setup');
    await page.getByRole('button', { name: 'Add client' }).click();
    await dialog().getByLabel('Name').fill('hiker-ios');
    await dialog().getByRole('button', { name: 'Add client' }).click();
    await dialog().getByRole('alert').getByText('There is a client `hiker-ios` already.').waitFor();
  });
});

describe('a server key', () => {
  it('needs a name and a scope, and is shown once it is there', async () => {
    await open('/setup');
    await page.getByRole('region', { name: 'Client office' }).getByRole('button', { name: 'New key' }).click();
    await dialog().getByRole('button', { name: 'Create key' }).click();
    await dialog().getByText('Must be at least 1 character.').waitFor();
    expect(sent).toEqual([]);
    await dialog().getByLabel('What it is for').fill('nightly');
    await dialog().getByRole('button', { name: 'Create key' }).click();
    await dialog().getByText('A server key needs at least one scope.').waitFor();
    await dialog().getByLabel('records:read').check();
    await dialog().getByRole('button', { name: 'Create key' }).click();
    await dialog().getByText('Copy it now: it is not shown again').waitFor();
    await dialog()
      .getByText(/^skey-/)
      .waitFor();
  });
});

describe('a channel', () => {
  it('keeps a number of messages, no more than it may', async () => {
    await open('/channels?add=1');
    await dialog().getByLabel('Name').fill('huts/fellgate');
    await dialog().getByLabel('Messages kept').fill('1000');
    await dialog().getByRole('button', { name: 'Add channel' }).click();
    await dialog().getByText('Nothing was published on it yet.').waitFor();
    expect((await test.owner.call(operations.channels.read, { params: { ...app.dev.params, channel: 'huts/fellgate' } })).keep).toBe(1000);
  });

  it('publishes only what is a JSON object', async () => {
    await open('/channels?open=huts%2Ffellgate');
    const data = dialog().getByLabel('Publish a message');
    await data.fill('[1, 2]');
    await dialog().getByRole('button', { name: 'Publish', exact: true }).click();
    await expect.poll(() => errorOf(data)).toContain('Must be a JSON object');
    expect(sent).toEqual([]);
  });
});

it('a change makes the lists it touches be read again, without a reload', async () => {
  await open('/topics');
  await page.getByLabel('Name of a new topic').fill('bunks');
  await page.getByRole('button', { name: 'Add topic' }).click();
  await page.getByRole('button', { name: 'bunks' }).click();
  await dialog().getByLabel('Title').fill('Free bunks');
  await dialog().getByRole('button', { name: 'Save' }).click();
  await page.getByRole('cell', { name: 'Free bunks' }).waitFor();
  await dialog().getByRole('button', { name: 'Delete' }).click();
  await page.getByRole('dialog', { name: 'Delete topic bunks?' }).getByRole('button', { name: 'Delete' }).click();
  await page.getByText('No topics yet').waitFor();
});
