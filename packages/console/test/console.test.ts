import { readFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Browser, Page } from 'playwright-core';
import { operations } from '@orchard/contract';
import { clientCertificate, mappingFile } from '@orchard/simulators';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, startFreshService, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { MOST_ATTEMPTS } from '../../service/src/platform/jobs/queue.js';
import { jobTable } from '../../service/src/platform/jobs/tables.js';
import { openBrowser, openPage, signIn, violations } from './browser.js';

const P = '/quillfell-hiker/dev';
let test: TestService;
let app: TestApp;
let browser: Browser;
let page: Page;
const complaints: string[] = [];
const text = (words: string | RegExp) => page.getByText(words).first();
const button = (name: string | RegExp) => page.getByRole('button', { name });
const open = (path: string) => page.goto(test.address + path);

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const kind = {
    platform: 'android' as const,
    model: 'Larch 5',
    os: 'Android 16',
    appVersion: '2.4.0',
    locale: 'nb-NO',
    timeZone: 'Europe/Oslo',
  };
  await test.simulators.connect({ address: test.address, clientKey: app.dev.clientKey }, [
    { ...kind, name: 'Runa’s phone', person: { name: 'Runa Stone', email: 'runa@hikers.example', password: 'ridge-and-river' } },
  ]);
  await test.owner.call(operations.managedRecords.put, {
    params: { ...app.dev.params, collection: 'huts', id: 'hollow-col' },
    body: { name: 'Hollow Col', bunks: 14, open: true, position: { type: 'Point', coordinates: [8.3, 61.3] }, amenities: ['stove'] },
  });
  browser = await openBrowser();
  page = await openPage(browser);
  page.on('pageerror', ({ message }) => complaints.push(message));
  page.on(
    'console',
    (message) => message.type() === 'error' && /Content Security|React/.test(message.text()) && complaints.push(message.text()),
  );
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

it('shows the handset wall, where a phone signs in and allows notifications', async () => {
  const wall = await browser.newPage();
  await wall.goto(test.simulators.address);
  await wall.getByRole('button', { name: 'Sign in as Runa Stone' }).click();
  await wall.getByRole('button', { name: 'Allow notifications' }).click();
  await wall.getByRole('button', { name: 'Forbid notifications' }).waitFor();
  expect(await violations(wall)).toEqual([]);
  await wall.close();
});

it('signs in, and says when the password is wrong', async () => {
  await open(`${P}/overview`);
  await page.getByLabel('E-mail address').fill(OWNER.email);
  await page.locator('input[type=password]').fill('not-the-password');
  await button(/^Sign in$/).click();
  await text('E-mail address or password is wrong. Check both.').waitFor();
  expect(await violations(page)).toEqual([]);
  await page.locator('input[type=password]').fill(OWNER.password);
  await button(/^Sign in$/).click();
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
});

describe('signed in', () => {
  beforeAll(() => signIn(page, test.address));
  it('makes an app with dev and live, adds a client, and shows its key and quick starts with address and key filled in', async () => {
    await open('/');
    await page.getByLabel('New app').fill('quillfell-warden');
    await button('Create app').click();
    await page.locator('main').getByRole('button', { name: 'Add client' }).last().click();
    await page.getByRole('dialog').getByLabel('Name').fill('tablet');
    await page.getByRole('dialog').getByRole('button', { name: 'Add client' }).click();
    const key = (await text(/^ckey-/).textContent()) as string;
    await page.getByRole('link', { name: 'Download client profile' }).waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByRole('link', { name: 'First calls' }).first().click();
    for (const platform of ['Browser', 'Node.js', 'Shell', 'Swift', 'Kotlin']) {
      await page.getByRole('tab', { name: platform }).click();
      const code = await page.locator('.steps').innerText();
      expect(code).toContain(key);
      expect(code).toContain(test.address);
    }
    expect(await violations(page)).toEqual([]);
    await button(/switch app or environment/).click();
    await page.getByRole('menuitem', { name: 'quillfell-warden / live' }).click();
    await page.waitForURL('**/quillfell-warden/live/first-calls');
  });

  it('edits a record, and tells when somebody else was quicker', async () => {
    await open(`${P}/data/huts`);
    await page.getByRole('button', { name: 'hollow-col', exact: true }).click();
    const bunks = page.getByRole('dialog').getByLabel('bunks');
    await bunks.fill('16');
    await button('Save').click();
    await text(/^Version 2,/).waitFor();
    expect(await violations(page)).toEqual([]);
    const read = () =>
      test.owner.call(operations.managedRecords.read, { params: { ...app.dev.params, collection: 'huts', id: 'hollow-col' } });
    expect(await read()).toMatchObject({ bunks: 16, open: true, amenities: ['stove'], version: 2 });
    await page.route(/\/(changes|live)(\?|$)/, (route) => route.abort());
    await open(`${P}/data/huts?open=hollow-col`);
    await bunks.fill('18');
    await test.owner.call(operations.managedRecords.patch, {
      params: { ...app.dev.params, collection: 'huts', id: 'hollow-col' },
      body: { bunks: 20 },
    });
    await button('Save').click();
    await text(/If-Match names version 2 of huts\/hollow-col; it is at version 3 now/).waitFor();
    expect((await read()).bunks).toBe(20);
    await page.unrouteAll();
  });

  it('filters a list, with the mistake marked, and keeps the filter in the address', async () => {
    await open(`${P}/data/huts`);
    await page.getByLabel('Filter').fill('bnks > 3');
    await text(/did you mean `bunks`/).waitFor();
    await page.getByLabel('Filter').fill('bunks > 300');
    await text('No match for this filter.').waitFor();
    expect(page.url()).toContain('filter=bunks+%3E+300');
  });

  it('adds a record to a collection and changes who may read it', async () => {
    await open(`${P}/data/huts`);
    await button('Add record').click();
    await page.getByRole('dialog').getByRole('textbox', { name: 'id', exact: true }).fill('northend');
    await page.getByRole('dialog').getByLabel('name', { exact: true }).fill('Northend');
    await button('Store').click();
    await text(/^Version 1,/).waitFor();
    await open(`${P}/data/huts?tab=rules`);
    await page.getByLabel('Who may read').selectOption('everyone');
    await button('Save rule').first().click();
    await expect.poll(async () => (await test.app('GET', '/data/huts', { key: app.dev.clientKey })).status).toBe(200);
    expect(await violations(page)).toEqual([]);
  });

  it('changes a value where it stands in the table, and takes it back', async () => {
    const at = { params: { ...app.dev.params, collection: 'huts', id: 'in-place' } };
    await test.owner.call(operations.managedRecords.put, { ...at, body: { name: 'In place', bunks: 7 } });
    const bunks = async () => (await test.owner.call(operations.managedRecords.read, at)).bunks;
    await open(`${P}/data/huts`);
    await button('bunks of in-place: 7. Change it').click();
    await page.keyboard.type('9');
    await page.keyboard.press('Enter');
    await text('7 → 9').waitFor();
    expect(await bunks()).toBe(9);
    expect(await violations(page)).toEqual([]);
    await button('Undo').click();
    await expect.poll(bunks).toBe(7);
    await button('bunks of in-place: 7. Change it').click();
    await page.keyboard.type('many');
    await page.keyboard.press('Escape');
    expect(await bunks()).toBe(7);
  });

  it('builds a filter by clicking, completes words, and keeps it under a name', async () => {
    await open(`${P}/data/huts`);
    await button('Condition').click();
    await page.getByLabel('Field', { exact: true }).selectOption('bunks');
    await page.getByLabel('Is', { exact: true }).selectOption('>');
    await page.getByLabel('Value', { exact: true }).fill('8');
    await page.getByRole('button', { name: 'Add', exact: true }).click();
    await expect.poll(() => new URL(page.url()).searchParams.get('filter')).toBe('bunks > 8');
    await expect.poll(() => page.getByLabel('Filter').inputValue()).toBe('bunks > 8');
    await page.getByLabel('Filter').fill('bunks > 8 AND na');
    await page.getByRole('option', { name: 'name' }).click();
    await expect.poll(() => page.getByLabel('Filter').inputValue()).toBe('bunks > 8 AND name ');
    await button('Remove bunks > 8').click();
    await open(`${P}/data/huts?filter=${encodeURIComponent('bunks > 8')}`);
    await button('Views').click();
    await page.getByText('Save this view').click();
    await page.getByLabel('Name of the view').fill('Large ones');
    await page.getByLabel('Name of the view').press('Enter');
    await button('Large ones').waitFor();
    await open(`${P}/data/huts`);
    await button('Views').click();
    await page.getByText('Large ones').click();
    await expect.poll(() => new URL(page.url()).searchParams.get('filter')).toBe('bunks > 8');
  });

  it('shows the history of a record, and brings a version back', async () => {
    const at = { params: { ...app.dev.params, collection: 'huts', id: 'in-place' } };
    await test.owner.call(operations.managedRecords.patch, { ...at, body: { name: 'Renamed' } });
    await open(`${P}/data/huts?open=in-place`);
    await page.getByRole('tab', { name: 'History' }).click();
    await text('In place → Renamed').waitFor();
    expect(await violations(page)).toEqual([]);
    await button('Restore this version').last().click();
    await expect.poll(async () => (await test.owner.call(operations.managedRecords.read, at)).name).toBe('In place');
  });

  it('looks at what fits before a field is changed, and brings a dropped one back', async () => {
    await open(`${P}/data/huts?tab=fields`);
    await button('Change bunks').click();
    await page.getByLabel('Maximum', { exact: true }).fill('8');
    await button('Preview').click();
    await text(/must be at most 8; got/)
      .first()
      .waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByRole('button', { name: 'Close' }).click();
    await button('Drop amenities').click();
    await button('Drop field').click();
    await page.getByRole('button', { name: 'Restore', exact: true }).click();
    await button('Restore field').click();
    await button('Drop amenities').waitFor();
  });

  it('tries a rule out as somebody before it is put in force', async () => {
    await open(`${P}/data/huts?tab=rules`);
    await page.getByLabel('Rule to update').fill("bunks > 8 AND me('id') IS NOT NULL");
    await button('Try as …').nth(2).click();
    await page.getByLabel('the record').fill('in-place');
    await page.getByRole('button', { name: 'Try', exact: true }).click();
    await text('Refused').waitFor();
    expect(await page.locator('.decided').allTextContents()).toEqual(['bunks > 8', "me('id') IS NOT NULL"]);
    expect(await violations(page)).toEqual([]);
    await page.getByLabel('Rule to update').fill('bnks > 8');
    await text(/did you mean `bunks`/).waitFor();
  });

  it('shows places on a map and searches in a radius that is drawn', async () => {
    for (const [id, lon] of [
      ['near', 8.3],
      ['far', 9.3],
    ] as const)
      await test.owner.call(operations.managedRecords.put, {
        params: { ...app.dev.params, collection: 'spots', id },
        body: { name: id, position: { type: 'Point', coordinates: [lon, 61.3] } },
      });
    await open(`${P}/data/spots?tab=map`);
    const near = await page.getByRole('button', { name: 'Open near' }).boundingBox();
    expect(await violations(page)).toEqual([]);
    await page.getByText('Draw a radius').click();
    const [x, y] = [(near?.x ?? 0) + 30, (near?.y ?? 0) + 40];
    await page.mouse.move(x, y);
    await page.mouse.down();
    await page.mouse.move(x + 90, y, { steps: 4 });
    await page.mouse.up();
    await page.getByRole('button', { name: 'Open far' }).waitFor({ state: 'detached' });
    expect(new URL(page.url()).searchParams.get('filter')).toMatch(/^distance\(position, POINT\(8\.[0-9]+ 61\.[0-9]+\)\) < [0-9]+$/);
    await page.getByRole('button', { name: 'Open near' }).click();
    await text(/^Version 1,/).waitFor();
  });

  it('imports a file: columns to fields, a check, the rows that do not fit, and stores the rest', async () => {
    await open(`${P}/data/spots?tab=files`);
    const csv = 'id;Name;lon;lat;score\none;One;8.1;61.2;3\ntwo;Two;8.2;95;4\n';
    await page.getByLabel('File to import').setInputFiles({ name: 'spots.csv', mimeType: 'text/csv', buffer: Buffer.from(csv) });
    await text(/^spots\.csv, \d+ bytes, delimiter ;$/).waitFor();
    await page.getByLabel('Field of lon').selectOption('position.longitude');
    await page.getByLabel('Field of lat').selectOption('position.latitude');
    await button('Check').click();
    await text(/1 rows? fit|One row fits/).waitFor();
    await text('line 3').waitFor();
    expect(await violations(page)).toEqual([]);
    await button('Import').click();
    await text(/^Stored 1 record/).waitFor();
    expect(
      await test.owner.call(operations.managedRecords.read, { params: { ...app.dev.params, collection: 'spots', id: 'one' } }),
    ).toMatchObject({ name: 'One', score: 3, position: { coordinates: [8.1, 61.2] } });
    const [file] = await Promise.all([page.waitForEvent('download'), page.getByRole('link', { name: 'Save all records' }).click()]);
    expect(file.suggestedFilename()).toBe('spots.csv');
  });

  it('sends a notification that the phone shows, and shows what became of it', async () => {
    await open(`${P}/compose`);
    await page.getByLabel('Title').fill('Ridge closed');
    await page.getByLabel('Body').fill('Storm from noon.');
    await text(/of \d+ reachable/).waitFor();
    expect(await violations(page)).toEqual([]);
    await button('Review').click();
    await button('Send now').click();
    await page.getByRole('heading', { name: 'Ridge closed' }).waitFor();
    await text('All deliveries succeeded.').waitFor();
    expect(test.simulators.handsets()[0]?.state.received[0]).toMatchObject({ title: 'Ridge closed', body: 'Storm from noon.' });
    expect(await violations(page)).toEqual([]);
    await page.getByRole('link', { name: 'Sent' }).click();
    await button('Ridge closed').waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('keeps a notification with what differs by platform and language, shows each on its phone, and lets one write on', async () => {
    await open(`${P}/compose`);
    await page.getByLabel('Title').fill('Bunks free');
    await page.getByLabel('Body').fill('At Kestrel Rock.');
    await button('Add a language').click();
    await page.getByLabel('Language', { exact: true }).fill('nb');
    await page.getByLabel('Title').nth(1).fill('Ledige senger');
    await button('Add a platform').click();
    await page.getByRole('combobox', { name: 'Platform' }).click();
    await page.getByRole('option', { name: 'android' }).click();
    await page.getByLabel('Body').nth(2).fill('At Kestrel Rock. Swipe for more.');
    const phone = page.getByRole('figure', { name: /Preview on/ });
    await phone.getByText('Android', { exact: true }).click();
    await phone.getByText('At Kestrel Rock. Swipe for more.').waitFor();
    await phone.getByText('nb', { exact: true }).click();
    await phone.getByText('Ledige senger').waitFor();
    expect(await violations(page)).toEqual([]);
    await button('Save as draft').click();
    await page.getByRole('link', { name: 'Edit' }).click();
    await page.getByLabel('Title').first().fill('Two bunks free');
    expect(await page.getByLabel('Language', { exact: true }).inputValue()).toBe('nb');
    await button('Save as draft').click();
    await page.getByRole('heading', { name: 'Two bunks free' }).waitFor();
    const { items } = await test.owner.call(operations.notifications.list, {
      params: app.dev.params,
      query: { filter: "state = 'draft'" },
    });
    expect(items).toMatchObject([
      {
        title: 'Two bunks free',
        locales: { nb: { title: 'Ledige senger' } },
        platforms: { android: { body: 'At Kestrel Rock. Swipe for more.' } },
      },
    ]);
  });

  it('adds a gateway, tells a certificate of the wrong stage, and checks it without sending', async () => {
    const { cairn, authority } = test.simulators;
    await test.owner.call(operations.clients.patch, {
      params: { ...app.dev.params, client: 'hiker-ios' },
      body: { packageIdentifier: 'example.quillfell.hiker' },
    });
    const certificate = (stage: 'trial' | 'live') =>
      clientCertificate(authority, { packageIdentifier: 'example.quillfell.hiker', stage, password: 'larch' });
    await open(`${P}/gateways`);
    await button('Add gateway').click();
    await page.getByLabel('Name').fill('cairn');
    await page.getByRole('combobox', { name: 'Client' }).or(page.getByLabel('Client')).first().click();
    await page.getByRole('option', { name: 'hiker-ios' }).click();
    await page.getByLabel('Base address').fill(cairn.address);
    await page.getByLabel('Password of the file').fill('larch');
    const files = page.locator('input[type=file]');
    await files.nth(1).setInputFiles(mappingFile('cairn'));
    await files
      .nth(2)
      .setInputFiles({ name: 'authority.pem', mimeType: 'application/x-pem-file', buffer: Buffer.from(authority.certificate) });
    await files.nth(0).setInputFiles({ name: 'cairn.p12', mimeType: 'application/x-pkcs12', buffer: certificate('live') });
    await button('Check and add').click();
    await text(/This is a live certificate/).waitFor();
    await files.nth(0).setInputFiles({ name: 'cairn.p12', mimeType: 'application/x-pkcs12', buffer: certificate('trial') });
    await button('Check and add').click();
    await text('Not checked yet. Run “Check now”.').first().waitFor();
    await button('Check now').click();
    await text(/accepted the client certificate over HTTP\/2/).waitFor();
    expect(cairn.accepted).toBe(0);
  });

  it('makes a channel, publishes on it, and shows what clients got', async () => {
    await open(`${P}/channels`);
    await button('Add channel').click();
    await page.getByLabel('Name').fill('huts/fellgate');
    await page.getByLabel('Who may publish').fill('nonsense (');
    await page.getByRole('dialog').getByRole('button', { name: 'Add channel' }).click();
    await page.getByRole('alert').waitFor();
    await page.getByLabel('Who may publish').fill("A_CONTAINS(me('roles'), ('warden'))");
    await page.getByRole('dialog').getByRole('button', { name: 'Add channel' }).click();
    await page.getByLabel('Publish a message').fill('{"fire":"lit"}');
    await page.getByRole('button', { name: 'Publish', exact: true }).click();
    await text('{"fire":"lit"}').last().waitFor();
    expect(await violations(page)).toEqual([]);
    const history = await test.app('GET', '/channels/huts%2Ffellgate/messages', { key: app.dev.serverKey });
    expect(history.body.items).toMatchObject([{ data: { fire: 'lit' }, sender: { kind: 'member', name: 'the team' } }]);
  });

  it('keeps prices and words for messages, and says which line is no price', async () => {
    await open(`${P}/sms-inbox?view=settings`);
    await page.getByLabel('Price of an SMS segment').fill('NO 0.061\nnorway');
    await text('“norway” must be a country and a price').waitFor();
    await page.getByLabel('Price of an SMS segment').fill('NO 0.061\nGB 0.042');
    await page.getByLabel('Currency').fill('eur');
    await page.getByRole('combobox', { name: 'Replies that opt a number out' }).fill('Avslutt');
    await page.keyboard.press('Enter');
    await button('Save').click();
    await text('Saved.').waitFor();
    expect(await violations(page)).toEqual([]);
    const kept = await test.owner.call(operations.sms.settings, { params: app.dev.params });
    expect(kept).toMatchObject({ prices: { NO: 0.061, GB: 0.042 }, currency: 'EUR' });
    expect(kept.optWords.out).toContain('Avslutt');
  });

  it('shows while a short message is typed what it costs in segments, and which letter forces UCS-2', async () => {
    await open(`${P}/compose`);
    await page.getByText('SMS', { exact: true }).click();
    await page.getByLabel('Text').fill('Ridge closed – stay.');
    await text(/is not in the GSM alphabet/).waitFor();
    await page.getByLabel('Text').fill('a'.repeat(161));
    await text(/2 segments, 145 characters left/).waitFor();
  });

  it('leads from a count of errors to the one request behind it', async () => {
    await test.app('GET', '/data/huts/nobody-home', { key: app.dev.clientKey });
    await open(`${P}/api-use?range=1h`);
    await page.getByRole('link', { name: '404: 1' }).click();
    await button(/\d\d:\d\d:\d\d/)
      .first()
      .click();
    await text('`huts` has no record `nobody-home`.').waitFor();
    await text('GET /app/v1/data/huts/nobody-home').waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('shows a website that was turned away, to its own console and here, and allows it with one click', async () => {
    const client = await test.owner.call(operations.clients.create, { params: app.dev.params, body: { name: 'hiker-web', kind: 'web' } });
    const site = createServer((_request, response) => response.setHeader('content-type', 'text/html').end('<title>site</title>'));
    await new Promise<void>((resolve) => site.listen(0, '127.0.0.1', resolve));
    const visitor = await browser.newPage();
    await visitor.goto(`http://127.0.0.1:${(site.address() as AddressInfo).port}`);
    // As text: the page's own import, not the test runner's.
    const call = () =>
      visitor.evaluate(`import('${test.address}/client/orchard.js')
      .then(({ connect }) => connect({ address: '${test.address}', clientKey: '${client.keys[0]?.key}' }).pushKey())
      .then(() => 'connected', (error) => error.message)`);
    expect(await call()).toContain('is not allowed for client `hiker-web` of quillfell-hiker/dev. Allow it at');
    await open(`${P}/overview`);
    await text('A website is blocked').waitFor();
    expect(await violations(page)).toEqual([]);
    await button(/^Allow http:\/\/127/).click();
    await text('A website is blocked').waitFor({ state: 'detached' });
    expect(await call()).toBe('connected');
    await visitor.close();
    site.close();
  });

  it('edits a user: name, roles and data', async () => {
    const { items } = await test.owner.call(operations.users.list, {
      params: app.dev.params,
      query: { filter: "email = 'runa@hikers.example'" },
    });
    const user = items[0]?.id as string;
    await open(`${P}/users?open=${user}`);
    const drawer = page.getByRole('dialog');
    // What support asks first: the call that signed her up is one click away.
    await drawer.getByRole('region', { name: 'What they did lately' }).getByRole('link').first().waitFor();
    await drawer.getByRole('region', { name: 'Devices' }).waitFor();
    await drawer.getByLabel('Name').fill('Runa of the Ridge');
    await drawer.getByLabel('Roles', { exact: true }).fill('rescuer');
    await page.keyboard.press('Enter');
    await drawer.getByLabel('User fields').fill('{"pace": "slow"}');
    expect(await violations(page)).toEqual([]);
    await button('Save').click();
    const read = () => test.owner.call(operations.users.read, { params: { ...app.dev.params, user } });
    await expect.poll(read).toMatchObject({ name: 'Runa of the Ridge', roles: ['rescuer'], data: { pace: 'slow' } });
    await open(`${P}/users?filter=${encodeURIComponent("roles LIKE '%rescuer%'")}`);
    await button('runa@hikers.example').waitFor();
  });

  it('makes an account for somebody, and shows why an address cannot be used twice', async () => {
    await open(`${P}/users?open=new`);
    const fill = async () => {
      await page.getByLabel('E-mail address').fill('wren@hikers.example');
      await page.locator('input[type=password]').fill('over-the-col');
      await page.getByRole('dialog').getByRole('button', { name: 'Add user' }).click();
    };
    await fill();
    await page.getByRole('dialog').getByText('wren@hikers.example').waitFor();
    await open(`${P}/users?open=new`);
    await fill();
    await text('There is an account for wren@hikers.example already. Sign in with it.').waitFor();
  });

  it('says whether a phone registered, sends it a test, retires it and brings it back', async () => {
    const phone = test.simulators.handsets()[0];
    await open(`${P}/devices?open=${phone?.state.deviceId}`);
    await text('Reachable: a notification sent now goes out to it.').waitFor();
    await button('Send a test').click();
    await page.getByRole('link', { name: 'follow its delivery' }).waitFor();
    await expect.poll(() => phone?.state.received[0]?.title).toBe('Test');
    await button('Retire').click();
    await text(/Not reachable\. Retired: retired by Mira Quill/).waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByRole('button', { name: 'Restore', exact: true }).click();
    await text('Reachable: a notification sent now goes out to it.').waitFor();
  });

  it('asks before it deletes a record, and keeps it when told to', async () => {
    const at = { params: { ...app.dev.params, collection: 'huts', id: 'to-go' } };
    await test.owner.call(operations.managedRecords.put, { ...at, body: { name: 'To go' } });
    await open(`${P}/data/huts?open=to-go`);
    await button('Delete record').click();
    await button('Cancel').click();
    expect((await test.owner.call(operations.managedRecords.read, at)).name).toBe('To go');
    await button('Delete record').click();
    await text('huts / to-go is deleted. You can restore it from its history for 30 days.').waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByRole('button', { name: 'Delete', exact: true }).click();
    await expect
      .poll(() =>
        test.owner.call(operations.managedRecords.read, at).then(
          () => 'there',
          () => 'gone',
        ),
      )
      .toBe('gone');
  });

  it('shows deliveries as they happen, without a reload', async () => {
    const phone = test.simulators.handsets()[0];
    test.simulators.network.setFault({ mode: 'throttle', retryAfterS: 3, count: 1 });
    await open(`${P}/compose?device=${phone?.state.deviceId}`);
    await page.getByLabel('Title').fill('Patience');
    await button('Review').click();
    await button('Send now').click();
    await text('The push network answered 429: too many messages.').waitFor();
    await text('All deliveries succeeded.').waitFor();
    await expect.poll(() => phone?.state.received[0]?.title).toBe('Patience');
  });

  it('shows records that somebody else writes, without a reload', async () => {
    await open(`${P}/data/huts`);
    await page.getByRole('button', { name: 'hollow-col', exact: true }).waitFor();
    await test.owner.call(operations.managedRecords.put, {
      params: { ...app.dev.params, collection: 'huts', id: 'from-elsewhere' },
      body: { name: 'Written elsewhere' },
    });
    const row = page.locator('tr[data-fresh]', { has: page.getByRole('button', { name: 'from-elsewhere', exact: true }) });
    await row.waitFor();
    await test.owner.call(operations.managedRecords.remove, { params: { ...app.dev.params, collection: 'huts', id: 'from-elsewhere' } });
    await row.waitFor({ state: 'detached' });
  });

  it('draws calls and latency over time; a series can be turned off, lines become bars, the table can be saved', async () => {
    await open(`${P}/api-use?range=1h`);
    const latency = page.getByRole('region', { name: 'Latency' });
    await latency.locator('path.recharts-line-curve').nth(2).waitFor({ state: 'attached' });
    await latency.getByRole('button', { name: 'p99' }).click();
    // Two figures and the calls, each with the step that is not over as a line of its own.
    await expect.poll(() => latency.locator('.recharts-line').count()).toBe(6);
    await latency.getByText('Bar', { exact: true }).click();
    await latency.locator('.recharts-bar').first().waitFor({ state: 'attached' });
    const [download] = await Promise.all([
      page.waitForEvent('download'),
      latency.getByRole('button', { name: 'Save Latency as CSV' }).click(),
    ]);
    const csv = readFileSync((await download.path()) as string, 'utf8');
    expect(csv).toMatch(/^at,p50,p95,p99,calls\n\d{4}-/);
    const usage = await test.owner.call(operations.telemetry.usage, { params: app.dev.params });
    await page
      .getByRole('region', { name: 'Routes' })
      .getByRole('link', { name: String(usage.routes[0]?.calls) })
      .first()
      .waitFor();
  });

  it('makes a server key with the scopes that are ticked, shows it once, and revokes it', async () => {
    await open(`${P}/setup`);
    const office = page.getByRole('region', { name: 'Client office' });
    await office.getByRole('button', { name: 'New key' }).click();
    await page.getByLabel('What it is for').fill('weather office');
    await page.getByLabel('records:write').check();
    await button('Create key').click();
    await text('Copy it now: it is not shown again').waitFor();
    const key = (await page
      .getByRole('dialog')
      .getByText(/^skey-/)
      .textContent()) as string;
    const write = (value: string) => test.app('PUT', '/data/huts/by-key', { key: value, body: { name: 'x' } });
    expect((await write(key)).status).toBe(201);
    expect((await test.app('GET', '/data/huts', { key })).body.detail).toContain('`records:read`');
    await button('Done').click();
    await office.getByText('weather office').waitFor();
    expect(await page.content()).not.toContain(key);
    await office
      .getByRole('row', { name: /weather office/ })
      .getByRole('button', { name: 'Revoke' })
      .click();
    await page.getByRole('dialog').getByRole('button', { name: 'Revoke' }).click();
    await office.getByText('revoked', { exact: true }).waitFor();
    expect((await write(key)).body.type).toBe('/docs/problems/key-revoked');
  });

  it('shows a job that was given up with its last error, and takes it up again', async () => {
    const { jobs, directory } = test.service.parts;
    const environment = await directory.environment('quillfell-hiker', 'dev');
    const { db } = environment;
    let fails = true;
    jobs.on('carry-stores', {
      work: async () => {
        if (fails) throw new Error('The bridge is out.');
        return null;
      },
    });
    await jobs.add(db, environment, 'carry-stores', 'hollow-col', new Date(Date.now() + 3_600_000));
    await db.run(`UPDATE ${db.of(jobTable)} SET attempts = ? WHERE kind = ?`, [MOST_ATTEMPTS - 1, 'carry-stores']);
    await jobs.hasten(environment, 'carry-stores');
    await open(`${P}/jobs`);
    await page.getByRole('row', { name: /carry-stores.*given up.*The bridge is out\./ }).waitFor();
    await page.getByRole('button', { name: 'carry-stores' }).click();
    expect(await violations(page)).toEqual([]);
    fails = false;
    await button('Retry now').click();
    await page.getByRole('row', { name: /carry-stores/ }).waitFor({ state: 'detached' });
  });

  it('closes an environment to new collections', async () => {
    await open(`${P}/environments`);
    await page.getByLabel('Mode of dev').selectOption('closed');
    await expect.poll(async () => (await test.owner.call(operations.environments.read, { params: app.dev.params })).mode).toBe('closed');
    await expect
      .poll(async () => (await test.app('POST', '/data/unheard_of', { key: app.dev.serverKey, body: { a: 1 } })).status)
      .toBe(404);
    await page.getByLabel('Mode of dev').selectOption('open');
    await expect.poll(async () => (await test.owner.call(operations.environments.read, { params: app.dev.params })).mode).toBe('open');
  });

  it('shows the same from the terminal and from code, with the page’s own values', async () => {
    await open(`${P}/data/huts?filter=${encodeURIComponent('bunks > 2')}`);
    await button('From code').click();
    await text(/^orchard record list huts --filter 'bunks > 2' --app quillfell-hiker --env dev/).waitFor();
    await page.getByRole('tab', { name: 'HTTP' }).click();
    await text(`${test.address}/manage/v1/apps/quillfell-hiker/environments/dev/collections/huts/records?filter=bunks+%3E+2`).waitFor();
    await page.getByRole('tab', { name: 'Client library' }).click();
    await text('await orchard.collection("huts").list({"filter":"bunks > 2"});').waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByRole('tab', { name: 'Send' }).click();
    const answer = page.getByRole('status').filter({ hasText: /^200 OK/ });
    await button('Send').click();
    await answer.waitFor();
    await page.getByLabel('Send as').selectOption({ label: 'the client hiker-ios' });
    await page.getByLabel('For the user').fill('nobody@hikers.example');
    await button('Send').click();
    await text('There is no user nobody@hikers.example in quillfell-hiker/dev.').waitFor();
    await page.getByLabel('For the user').fill('');
    await button('Send').click();
    await text('There is no user').waitFor({ state: 'detached' });
    // Nobody is signed in: the rule of the collection answers, as it does an app.
    await page
      .getByRole('status')
      .filter({ hasText: /^(200 OK|403 Forbidden)/ })
      .waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('finds people, devices and pages from the search box', async () => {
    await open(`${P}/overview`);
    await page.getByRole('heading', { name: 'Overview' }).waitFor();
    await page.keyboard.press('/');
    await page.getByLabel('Search for').fill('runa@');
    await page.getByRole('button', { name: /runa@hikers\.example/ }).click();
    await page.getByRole('dialog').getByLabel('Name').waitFor();
    await page.waitForURL('**/users?open=*');
  });

  it('needs no exception from its content security policy', () => expect(complaints).toEqual([]));
});

it('makes the owner account at the one-time address of a first start', async () => {
  const fresh = await startFreshService(inject('databaseUrl'));
  const visitor = await (await browser.newContext()).newPage();
  await visitor.goto(fresh.setupAddress as string);
  await visitor.getByLabel('Your name').fill('Mira Quill');
  await visitor.getByLabel('E-mail address').fill(OWNER.email);
  await visitor.locator('input[type=password]').fill(OWNER.password);
  expect(await violations(visitor)).toEqual([]);
  await visitor.getByRole('button', { name: 'Create account' }).click();
  await visitor.getByRole('heading', { name: 'Apps' }).waitFor();
  await visitor.goto(fresh.setupAddress as string);
  await visitor.getByLabel('Your name').fill('Somebody Else');
  await visitor.getByLabel('E-mail address').fill('else@quillfell.example');
  await visitor.locator('input[type=password]').fill(OWNER.password);
  await visitor.getByRole('button', { name: 'Create account' }).click();
  await visitor.getByText('Sign in at the console.').waitFor();
  await fresh.stop();
});
