/** Ways in and accounts by the library; the sign-in page in a real browser. */
import { once } from 'node:events';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { operations } from '@orchard/contract';
import type { Browser } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { openBrowser } from '../../console/test/browser.js';
import { makeApp, PASSWORD, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { connect } from '../src/index.js';

let test: TestService;
let app: TestApp;
let browser: Browser;
let runa: { id: string; email: string };
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  await test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body: { guests: true, codeByMail: true } });
  browser = await openBrowser();
});
afterAll(async () => {
  await browser.close();
  await test.stop();
});
const orchard = () => {
  let kept: string | null = null;
  return connect({
    address: test.address,
    clientKey: app.dev.clientKey,
    introduce: false,
    storage: { read: () => kept, write: (value) => void (kept = value) },
  });
};

describe('an app', () => {
  it('lets people begin as guests, and become users with all they own', async () => {
    const app = orchard();
    const seen: (string | null | undefined)[] = [];
    app.user.subscribe((user) => seen.push(user?.email));
    const guest = await app.account.beginAsGuest();
    const note = await app.collection('notes').create({ text: 'of a guest' });
    await app.account.becomeUser({ email: 'wren@hikers.example', password: 'over-the-col', name: 'Wren' });
    expect((await app.account.change({ name: 'Wren Dell' })).name).toBe('Wren Dell');
    expect(await app.me()).toMatchObject({ id: guest.id, email: 'wren@hikers.example' });
    expect((await app.collection('notes').read(note.id)).ownerId).toBe(guest.id);
    expect(seen.slice(0, 2)).toEqual([null, 'wren@hikers.example']);
  });

  it('signs people in by a code, over a session that has ended, and lists and ends their sessions', async () => {
    const app = orchard();
    await app.signIn(runa.email, PASSWORD);
    const { code } = await app.account.askSignIn({ email: runa.email });
    expect((await app.account.signInByCode({ email: runa.email, code: code as string })).id).toBe(runa.id);
    const sessions = await app.account.sessions();
    expect(sessions.length).toBeGreaterThan(1);
    const other = sessions.find(({ isCurrent }) => !isCurrent);
    await app.account.endSession(other?.id as string);
    expect((await app.account.sessions()).map(({ id }) => id)).not.toContain(other?.id);
    expect(await app.account.exportAll()).toMatchObject({ account: { id: runa.id, email: runa.email } });
  });

  it('leaves for the sign-in page, and comes back with somebody signed in; and takes no answer that it did not ask for', async () => {
    const site = createServer(
      (_request, response) => void response.setHeader('content-type', 'text/html').end('<!doctype html><title>App</title>'),
    ).listen(0, '127.0.0.1');
    await once(site, 'listening');
    const origin = `http://localhost:${(site.address() as AddressInfo).port}`;
    const client = await test.owner.call(operations.clients.create, {
      params: app.dev.params,
      body: { name: 'web', kind: 'web', origins: [origin] },
    });
    await test.owner.call(operations.accounts.changeRules, { params: app.dev.params, body: { redirects: { web: [`${origin}/`] } } });
    const page = await browser.newPage();
    page.setDefaultTimeout(20_000);
    const inPage = <T>(code: string): Promise<T> =>
      page.evaluate(
        `(async () => { const { connect } = await import('${test.address}/client/orchard.min.js'); const orchard = connect({ address: '${test.address}', clientKey: '${client.keys[0]?.key}' }); ${code} })()`,
      );
    await page.goto(origin);
    expect(await inPage('return orchard.account.returned()')).toBeNull();
    await Promise.all([page.waitForURL('**/authorize?**'), inPage('await orchard.account.openSignInPage()')]);
    await page.locator('input[type=email]').fill(runa.email);
    await page.locator('button[type=submit], button:not([type])').first().click();
    await page.locator('input[type=password]').fill(PASSWORD);
    await page.locator('button[type=submit], button:not([type])').first().click();
    await page.waitForURL(`${origin}/?**`);
    expect(await inPage('const { user } = await orchard.account.returned(); return [user.email, (await orchard.me()).email]')).toEqual([
      runa.email,
      runa.email,
    ]);
    await page.goto(`${origin}/?code=stolen&state=guessed`);
    expect(await inPage('return orchard.account.returned()')).toBeNull();
    await page.close();
    site.close();
  });
});
