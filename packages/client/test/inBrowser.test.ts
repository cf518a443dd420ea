/** What only a browser has: passkeys, a camera, and large contents that are paused; by the library, from a page of the app. */
import { once } from 'node:events';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { operations } from '@orchard/contract';
import { TOTP } from 'otpauth';
import type { Browser, Page } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { openBrowser, withAuthenticator } from '../../console/test/browser.js';
import { eventually, makeApp, PASSWORD, signUp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';

const CAMERA = ['--use-fake-device-for-media-stream', '--use-fake-ui-for-media-stream'];
let test: TestService;
let app: TestApp;
let site: Server;
let browser: Browser;
let page: Page;
let runa: { id: string; token: string; email: string };

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  const { params } = app.dev;
  runa = await signUp(test, app.dev.clientKey, 'runa');
  site = createServer(
    (_request, response) => void response.setHeader('content-type', 'text/html').end('<!doctype html><title>App</title>'),
  ).listen(0, '127.0.0.1');
  await once(site, 'listening');
  const origin = `http://localhost:${(site.address() as AddressInfo).port}`;
  const client = await test.owner.call(operations.clients.create, { params, body: { name: 'web', kind: 'web', origins: [origin] } });
  await test.owner.call(operations.accounts.changeRules, { params, body: { passkeyDomain: 'localhost', passkeyOrigins: [origin] } });
  browser = await openBrowser(...CAMERA);
  page = await browser.newPage();
  page.setDefaultTimeout(20_000);
  await page.goto(origin);
  await page.evaluate(
    `import('${test.address}/client/orchard.min.js').then(({ connect }) => {
      globalThis.orchard = connect({ address: '${test.address}', clientKey: '${client.keys[0]?.key}', introduce: false });
    })`,
  );
});
afterAll(async () => {
  await browser.close();
  site.close();
  await test.stop();
});

const inPage = <T>(code: string): Promise<T> => page.evaluate(`(async () => { const { orchard } = globalThis; ${code} })()`);
const signIn = () => inPage<string>(`return (await orchard.signIn('${runa.email}', '${PASSWORD}')).id`);

describe('an app in a browser', () => {
  it('signs its user in with a passkey of the device, made after a sign-in by password', async () => {
    await withAuthenticator(page);
    await signIn();
    await inPage(`await orchard.account.addPasskey('Runa’s laptop', { password: '${PASSWORD}' })`);
    await inPage('await orchard.signOut()');
    expect(await inPage('return (await orchard.account.signInByPasskey()).id')).toBe(runa.id);
  });

  it('finishes with a code of the authenticator app what a password began', async () => {
    const wren = await signUp(test, app.dev.clientKey, 'wren');
    const asWren = (path: string, body: object) =>
      test.app('POST', `/users/me${path}`, { key: app.dev.clientKey, token: wren.token, body });
    const { id, secret } = (await asWren('/authenticators', { password: PASSWORD })).body;
    const code = (step: number) => new TOTP({ secret, digits: 6, period: 30 }).generate({ timestamp: Date.now() + step * 30_000 });
    await asWren(`/authenticators/${id}/codes`, { code: code(-1) });
    const ticket = await inPage<string>(
      `return orchard.signIn('${wren.email}', '${PASSWORD}').catch((problem) => problem.problem === 'second-factor-needed' && problem.extras.ticket)`,
    );
    const signedIn = await inPage(`return (await orchard.account.signInBySecondFactor({ ticket: '${ticket}', code: '${code(0)}' })).email`);
    expect(signedIn).toBe(wren.email);
  });

  it('pauses an upload and goes on with it; one that was cancelled leaves nothing', async () => {
    await signIn();
    const states = await inPage<string[]>(`
      const content = new Blob([new Uint8Array(600_000).fill(7)]);
      const upload = await orchard.files.upload('trails/north.bin', content, { pieceBytes: 100_000 });
      const states = [];
      const reached = (share) => new Promise((resolve) => upload.progress.subscribe(({ sent, size }) => sent >= share * size && resolve()));
      upload.progress.subscribe(({ state }) => states.at(-1) !== state && states.push(state));
      await reached(0.3);
      upload.pause();
      await new Promise((resolve) => setTimeout(resolve, 300));
      const paused = upload.progress.current.sent;
      await new Promise((resolve) => setTimeout(resolve, 300));
      if (upload.progress.current.sent !== paused) states.push('went on while paused');
      upload.resume();
      await upload.done;
      const other = await orchard.files.upload('trails/south.bin', content, { pieceBytes: 50_000 });
      await other.cancel();
      await other.done.catch(() => states.push('cancelled'));
      return states;`);
    expect(states).toEqual(['running', 'paused', 'running', 'done', 'cancelled']);
    const listed = await inPage("return (await orchard.files.list('trails')).items.map(({ path, size }) => [path, size])");
    expect(listed).toEqual([['trails/north.bin', 600_000]]);
  });

  it('sends what its camera sees, and others watch it', async () => {
    await signIn();
    await inPage(`
      const stream = await navigator.mediaDevices.getUserMedia({ video: { width: 320, height: 240 }, audio: true });
      globalThis.sending = await orchard.broadcasts.send(stream, { name: 'cameras/col' });`);
    const seen = await eventually(async () => {
      const { address } = await inPage<{ address: string }>('return orchard.broadcasts.watch(sending.broadcast.id)');
      const reply = await fetch(address);
      return reply.ok && (await reply.text()).includes('#EXTM3U');
    });
    expect(seen).toBe(true);
    expect(await inPage('return (await orchard.broadcasts.list()).map(({ name, state }) => [name, state])')).toEqual([
      ['cameras/col', 'live'],
    ]);
    await inPage('await sending.end()');
    expect(await inPage('return (await orchard.broadcasts.read(sending.broadcast.id)).state')).toBe('ended');
  });
});
