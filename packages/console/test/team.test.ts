/** The team in the console: invitations, second factors, ways to be reached, tokens, the audit. */
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { operations } from '@orchard/contract';
import { SMS_ACCOUNT } from '@orchard/simulators';
import { Secret, TOTP } from 'otpauth';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { mailSettings, makeApp, OWNER, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openBrowser, openPage, signIn, violations, withAuthenticator } from './browser.js';

const PASSWORD = 'larch-and-juniper';
const STEP_MS = 30_000;
let test: TestService;
let app: TestApp;
let browser: Browser;
/** A host name: passkeys belong to one, and never to an IP address. */
let here: string;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), mailSettings);
  here = test.address.replace('127.0.0.1', 'localhost');
  app = await makeApp(test, 'quillfell-hiker');
  browser = await openBrowser();
});
afterAll(async () => {
  await browser?.close();
  await test?.stop();
});

const button = (page: Page, name: string | RegExp) => page.getByRole('button', { name, exact: true });
const dialog = (page: Page) => page.getByRole('dialog');
const emailOf = (name: string) => `${name}@quillfell.example`;
const codeOf = (secret: string, offsetMs = 0) =>
  new TOTP({ secret: Secret.fromBase32(secret), digits: 6, period: 30 }).generate({ timestamp: Date.now() + offsetMs });

/** A member in a browser of their own, not signed in yet. */
async function person(name: string, role: 'viewer' | 'maintainer' = 'maintainer'): Promise<Page> {
  await test.owner.call(operations.members.add, {
    body: { email: emailOf(name), name, password: PASSWORD, roles: [{ app: app.name, role }] },
  });
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, reducedMotion: 'reduce' });
  const page = await context.newPage();
  page.setDefaultTimeout(30_000);
  return page;
}
async function enter(page: Page, name: string): Promise<void> {
  await page.goto(`${here}/sign-in`);
  await page.getByLabel('E-mail address').fill(emailOf(name));
  await page.locator('input[type=password]').fill(PASSWORD);
  await button(page, 'Sign in').click();
}
const account = (page: Page) => page.goto(`${here}/quillfell-hiker/dev/account`);

describe('an invitation', () => {
  it('leads from the mail to the team, and its role can be changed and taken away', async () => {
    const owner = await openPage(browser);
    await signIn(owner, here);
    await owner.goto(`${here}/quillfell-hiker/dev/team`);
    await button(owner, 'Invite member').click();
    await dialog(owner).getByLabel('E-mail address').fill(emailOf('tove'));
    await button(owner, 'Send invitation').click();
    await owner.getByText('The invitation is on its way').waitFor();
    await button(owner, 'Done').click();
    await expect.poll(() => test.simulators.mail.mailsOf(emailOf('tove')).length).toBe(1);
    const address = /http\S+\/join\S+/.exec(test.simulators.mail.mailsOf(emailOf('tove'))[0]?.text ?? '')?.[0] as string;

    const tove = await (await browser.newContext()).newPage();
    await tove.goto(address.replace('127.0.0.1', 'localhost'));
    await tove.getByLabel('E-mail address').fill(emailOf('tove'));
    await tove.getByLabel('Your name').fill('Tove Rask');
    await tove.locator('input[type=password]').fill(PASSWORD);
    expect(await violations(tove)).toEqual([]);
    await button(tove, 'Join').click();
    await tove.getByRole('heading', { name: 'Apps' }).waitFor();
    await tove.getByRole('table', { name: 'Roles of members' }).getByText('Tove Rask').waitFor();

    await owner.reload();
    await button(owner, 'Tove Rask').waitFor();
    expect(await violations(owner)).toEqual([]);
    await button(owner, 'Tove Rask').click();
    await owner.getByRole('combobox', { name: 'Role in quillfell-hiker/live' }).click();
    await owner.getByRole('option', { name: 'none' }).click();
    await expect
      .poll(async () => (await test.owner.call(operations.members.list, {})).items.find(({ name }) => name === 'Tove Rask')?.roles)
      .toEqual([{ app: app.name, environment: 'dev', role: 'developer' }]);
    await tove.goto(`${here}/quillfell-hiker/live/overview`);
    await tove.getByText('You have no role in quillfell-hiker/live').first().waitFor();
    await owner.close();
    await tove.close();
  });
});

it('a member who is removed is shown the door on an open page, within five seconds', async () => {
  const page = await person('rolf', 'viewer');
  await enter(page, 'rolf');
  await page.getByRole('heading', { name: 'Apps' }).waitFor();
  await page.goto(`${here}/quillfell-hiker/dev/overview`);
  await page.getByRole('heading', { name: 'Overview' }).waitFor();
  const { items } = await test.owner.call(operations.members.list, {});
  const rolf = items.find(({ name }) => name === 'rolf')?.id as string;
  const removedAt = Date.now();
  await test.owner.call(operations.members.remove, { params: { member: rolf } });
  await page.getByRole('heading', { name: 'Sign in to Vivid Orchard' }).waitFor();
  expect(Date.now() - removedAt).toBeLessThan(5_000);
  await page.context().close();
});

describe('an authenticator app', () => {
  it('is added with a code, asked for at the next sign-in, and for a sensitive change', async () => {
    const page = await person('jon');
    await enter(page, 'jon');
    await page.getByRole('heading', { name: 'Apps' }).waitFor();
    await account(page);
    await button(page, 'Add authenticator app').click();
    const secret = ((await dialog(page).locator('dd .mono').first().textContent()) ?? '').replaceAll(' ', '');
    await page.getByAltText('QR code with the secret').waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByLabel('Code').fill('000000');
    await button(page, 'Add').click();
    await page.getByText('The code is wrong.').waitFor();
    await page.getByLabel('Code').fill(codeOf(secret, -STEP_MS));
    await button(page, 'Add').click();
    const codes = ((await dialog(page).locator('pre').textContent()) ?? '').trim().split('\n');
    expect(codes).toHaveLength(10);
    await button(page, 'I have kept them').click();
    await page.getByText('10 recovery codes left').waitFor();
    expect(await violations(page)).toEqual([]);

    await page.context().clearCookies();
    await enter(page, 'jon');
    await page.getByRole('heading', { name: 'Second factor' }).waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByLabel('Code').fill(codeOf(secret));
    await button(page, 'Sign in').click();
    await page.getByRole('heading', { name: 'Apps' }).waitFor();

    await test.service.parts.database.run(
      "UPDATE memberSessions SET confirmedAt = UTC_TIMESTAMP(3) - INTERVAL 1 HOUR WHERE kind = 'cookie'",
      [],
    );
    await page.goto(`${here}/quillfell-hiker/dev/tokens`);
    await button(page, 'Create token').click();
    await page.getByLabel('Name').fill('nightly export');
    await dialog(page).getByRole('button', { name: 'Create token' }).click();
    await page.getByRole('heading', { name: 'Confirm that it is you' }).waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByLabel('Code').fill(codes[0] as string);
    await button(page, 'Confirm').click();
    await page.getByText(/^atok-/).waitFor();
    await button(page, 'Done').click();
    await button(page, 'nightly export').waitFor();
    await page.context().close();
  });
});

describe('a passkey', () => {
  it('is added, signs in without a password, and confirms', async () => {
    const page = await person('ines');
    await withAuthenticator(page);
    await enter(page, 'ines');
    await page.getByRole('heading', { name: 'Apps' }).waitFor();
    await account(page);
    await button(page, 'Add passkey').click();
    await button(page, 'I have kept them').click();
    await page.getByText('(passkey)').waitFor();
    await page.context().clearCookies();
    await page.goto(`${here}/sign-in`);
    await button(page, 'Sign in with a passkey').click();
    await page.getByRole('heading', { name: 'Apps' }).waitFor();
    await test.service.parts.database.run(
      "UPDATE memberSessions SET confirmedAt = UTC_TIMESTAMP(3) - INTERVAL 1 HOUR WHERE kind = 'cookie'",
      [],
    );
    await account(page);
    await button(page, 'New recovery codes').click();
    await button(page, 'Use a passkey').click();
    await button(page, 'I have kept them').click();
    await page.context().close();
  });

  it('of another site is refused, with the name of both', async () => {
    const page = await person('bram');
    await withAuthenticator(page);
    const elsewhere = createServer((_request, response) => response.setHeader('content-type', 'text/html').end('<h1>Elsewhere</h1>'));
    await new Promise<void>((resolve) => elsewhere.listen(0, resolve));
    const there = `http://localhost:${(elsewhere.address() as AddressInfo).port}`;
    const { token } = await (
      await fetch(`${here}/manage/v1/session`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ email: emailOf('bram'), password: PASSWORD, as: 'token' }),
      })
    ).json();
    const call = async (path: string, body: object) => {
      const reply = await fetch(`${here}/manage/v1${path}`, {
        method: 'POST',
        headers: { 'content-type': 'application/json', authorization: `Bearer ${token}` },
        body: JSON.stringify(body),
      });
      return reply.json();
    };
    const { publicKey } = await call('/second-factors/passkey-challenges', {});
    await page.goto(there);
    // A page of another port is of another origin, though its host name is the same.
    const made = await page.evaluate(async (options) => {
      const bytes = (text: string) => Uint8Array.from(atob(text.replace(/-/g, '+').replace(/_/g, '/')), (one) => one.charCodeAt(0));
      const read = { ...options, challenge: bytes(options.challenge), user: { ...options.user, id: bytes(options.user.id) } };
      const credential = (await navigator.credentials.create({ publicKey: { ...read, excludeCredentials: [] } })) as PublicKeyCredential;
      return credential.toJSON();
    }, publicKey);
    expect(await call('/second-factors/passkeys', { passkey: made })).toMatchObject({
      type: '/docs/problems/second-factor-refused',
      detail: expect.stringContaining(`used on a page of ${there}; it is one of ${here}`),
    });
    elsewhere.close();
    await page.context().close();
  });

  it('is not offered at an IP address, which says where it is', async () => {
    const page = await person('per', 'viewer');
    await page.goto(`${here.replace('localhost', '127.0.0.1')}/sign-in`);
    await button(page, 'Sign in with a passkey').click();
    await page.getByText(`Passkeys need a host name. Open the console at ${here}`).waitFor();
    await page.context().close();
  });
});

describe('a way to be reached', () => {
  it('is a phone number that is verified, with quiet hours, and shows what became of a test', async () => {
    await test.owner.call(operations.memberWays.addGateway, {
      body: {
        kind: 'smpp',
        name: 'heron',
        stage: 'live',
        settings: { host: '127.0.0.1', port: test.simulators.sms.port, systemId: SMS_ACCOUNT.systemId, sender: 'Orchard' },
        password: SMS_ACCOUNT.password,
      },
    });
    const page = await person('siv', 'viewer');
    await enter(page, 'siv');
    await page.getByRole('heading', { name: 'Apps' }).waitFor();
    await account(page);
    await button(page, 'Add phone number').click();
    await page.getByRole('textbox', { name: 'Phone number' }).fill('+12025550147');
    await button(page, 'Send code').click();
    await page.getByRole('heading', { name: 'Verify +12025550147' }).waitFor();
    const code = /\b\d{6}\b/.exec(test.simulators.sms.textsOf('+12025550147').at(-1)?.text ?? '')?.[0] as string;
    await page.getByRole('textbox', { name: 'Code' }).fill(code);
    await button(page, 'Verify').click();
    await page.getByText('verified').first().waitFor();
    await page.getByLabel('Quiet hours').click();
    await page.getByLabel('Urgent messages come then too').waitFor();
    await button(page, 'Send test').click();
    await page.getByText('The test is on its way.').waitFor();
    await page.getByRole('table', { name: 'Messages to you' }).getByText('A test from Vivid Orchard').waitFor();
    expect(await violations(page)).toEqual([]);
    await page.context().close();
  });
});

describe('an owner', () => {
  let page: Page;
  beforeAll(async () => {
    page = await openPage(browser);
    await signIn(page, here);
  });
  afterAll(() => page.close());

  it('sees at a glance who has access, and who has no second factor', async () => {
    const table = page.getByRole('table', { name: 'Roles of members' });
    await table.getByRole('row', { name: /jon.*yes.*maintainer.*maintainer/ }).waitFor();
    await table.getByRole('row', { name: /Mira Quill.*none.*owner/ }).waitFor();
    await page.getByText(/members?, .* without a second factor/).waitFor();
    expect(await violations(page)).toEqual([]);
    await table.getByRole('button', { name: 'jon' }).click();
    await dialog(page).getByText('Second factor', { exact: true }).waitFor();
  });

  it('lets an app demand a second factor, which its maintainers are told', async () => {
    await page.goto(`${here}/quillfell-hiker/dev/team`);
    await page.getByLabel('quillfell-hiker demands a second factor of maintainers and owners').click();
    await expect.poll(async () => (await test.owner.call(operations.apps.list, {})).items[0]?.secondFactor).toBe(true);
    const bare = await person('olaf');
    await enter(bare, 'olaf');
    await bare.getByText('your full rights need a second factor').first().click();
    await bare.getByText('A second factor is demanded').waitFor();
    await bare.context().close();
  });

  it('reads in the audit what was changed, follows it to its request, and verifies the chains', async () => {
    await page.goto(`${here}/quillfell-hiker/dev/audit?of=all`);
    await page.getByText('Change the title of an app').first().waitFor();
    expect(await violations(page)).toEqual([]);
    await page.getByText('Failed', { exact: true }).click();
    await page.getByText('No match for this filter.').waitFor();
    await page.goto(`${here}/quillfell-hiker/dev/audit?of=all&filter=${encodeURIComponent("kind = 'app' AND outcome = 'done'")}`);
    await page.locator('tbody button').first().click();
    await dialog(page).getByText('"secondFactor": true').waitFor();
    expect(await violations(page)).toEqual([]);
    await page.keyboard.press('Escape');
    await button(page, 'Verify').click();
    await page.getByRole('table', { name: 'Chains of the audit' }).getByText('whole').nth(2).waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('sees what a gateway of the installation is missing, and checks it', async () => {
    await page.goto(`${here}/quillfell-hiker/dev/installation?open=heron`);
    await page.getByText('Not checked yet. Run “Check now”.').first().waitFor();
    await button(page, 'Check now').click();
    await page.getByText('The latest check passed', { exact: true }).waitFor();
    expect(await violations(page)).toEqual([]);
  });

  it('lets members sign in at a provider, with roles by its groups, and takes it away again', async () => {
    await page.goto(`${here}/quillfell-hiker/dev/team`);
    await button(page, 'Add a provider of members').click();
    const dialog = page.getByRole('dialog', { name: 'Add a provider of members' });
    await dialog.getByRole('textbox', { name: 'Name', exact: true }).fill('ridge');
    await dialog.getByLabel('Title').fill('The ridge');
    await dialog.getByLabel('Issuer').fill('https://id.ridge.example');
    await dialog.getByRole('textbox', { name: 'Client id', exact: true }).fill('orchard');
    await dialog.getByLabel('Roles by group').fill('wardens = developer of quillfell-hiker/dev, viewer of quillfell-hiker/live');
    await dialog.getByRole('button', { name: 'Save' }).click();
    await page.getByText('wardens: developer of quillfell-hiker/dev, viewer of quillfell-hiker/live').waitFor();
    await button(page, 'Change The ridge').click();
    const change = page.getByRole('dialog', { name: 'Change the provider' });
    expect(await change.getByLabel('Roles by group').inputValue()).toBe(
      'wardens = developer of quillfell-hiker/dev, viewer of quillfell-hiker/live',
    );
    await change.getByLabel('Roles by group').fill('wardens = owner of nowhere');
    await change.getByRole('button', { name: 'Save' }).click();
    await change
      .getByText(/lower-case letter/)
      .first()
      .waitFor();
    await page.keyboard.press('Escape');
    const ways = page.getByRole('region', { name: 'Sign-in at providers' });
    await ways.getByRole('button', { name: 'Remove' }).click();
    await page.getByRole('dialog').getByRole('button', { name: 'Remove' }).click();
    await ways.getByText('Members sign in here.').waitFor();
    expect((await test.owner.call(operations.memberEntry.list, {})).items).toEqual([]);
  });

  it('is asked for the password again, and may go on', async () => {
    await test.service.parts.database.run(
      "UPDATE memberSessions SET confirmedAt = UTC_TIMESTAMP(3) - INTERVAL 1 HOUR WHERE kind = 'cookie'",
      [],
    );
    await page.goto(`${here}/quillfell-hiker/dev/team`);
    await button(page, 'siv').click();
    await page.getByRole('combobox', { name: 'Role in quillfell-hiker/dev' }).click();
    await page.getByRole('option', { name: 'developer' }).click();
    await page.getByRole('heading', { name: 'Confirm that it is you' }).waitFor();
    await page.getByRole('textbox', { name: 'Password' }).fill(OWNER.password);
    await button(page, 'Confirm').click();
    await expect
      .poll(async () => (await test.owner.call(operations.members.list, {})).items.find(({ name }) => name === 'siv')?.roles[0]?.role)
      .toBe('developer');
  });
});
