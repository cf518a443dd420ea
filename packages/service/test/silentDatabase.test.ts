/** A database server that takes statements and answers none, as one that hangs does: calls fail after some seconds, and not in minutes. */
import { type AddressInfo, createConnection, createServer, type Socket } from 'node:net';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it } from 'vitest';
import { eventually, makeApp, signUp, startTestService, type TestApp, type TestService } from './support.js';

/** Passes everything on, until it is frozen: then nothing, in either direction, and nobody is told. */
async function startFreezer(to: URL) {
  const sockets = new Set<Socket>();
  let frozen = false;
  const server = createServer((near) => {
    const far = createConnection({ host: to.hostname, port: Number(to.port) });
    for (const [one, other] of [
      [near, far],
      [far, near],
    ] as const) {
      sockets.add(one);
      one.on('data', (chunk) => other.write(chunk));
      one.on('error', () => other.destroy());
      one.on('close', () => void (other.destroy(), sockets.delete(one)));
      if (frozen) one.pause();
    }
  });
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  const set = (state: boolean) => {
    frozen = state;
    for (const socket of sockets) state ? socket.pause() : socket.resume();
  };
  const stop = () => {
    for (const socket of sockets) socket.destroy();
    server.close();
  };
  return { port: (server.address() as AddressInfo).port, freeze: () => set(true), thaw: () => set(false), stop };
}

let freezer: Awaited<ReturnType<typeof startFreezer>>;
let test: TestService;
let app: TestApp;
beforeAll(async () => {
  const url = new URL(inject('databaseUrl'));
  freezer = await startFreezer(new URL(url));
  url.hostname = '127.0.0.1';
  url.port = String(freezer.port);
  test = await startTestService(url.href);
  app = await makeApp(test, 'quillfell-hiker');
  await test.owner.call(operations.collections.create, {
    params: app.dev.params,
    body: { name: 'notes', fields: [{ name: 'text', type: 'text' }], rules: { read: 'TRUE', create: 'TRUE' } } as never,
  });
});
afterAll(async () => {
  freezer.thaw();
  await test.stop();
  freezer.stop();
});

it('is said to be unavailable to calls under way and to later ones, and all is well when it answers again', async () => {
  const { token } = await signUp(test, app.dev.clientKey, 'runa');
  const read = () => test.app('GET', '/data/notes', { key: app.dev.clientKey, token });
  const write = () => test.app('POST', '/data/notes', { key: app.dev.clientKey, token, body: { text: 'Rime' } });
  expect([(await read()).status, (await write()).status]).toEqual([200, 201]);
  freezer.freeze();
  const underWay = await Promise.all([read(), write(), read()]);
  expect(underWay.map(({ status, body }) => [status, body.type])).toEqual(Array(3).fill([503, '/docs/problems/database-unavailable']));
  expect((await read()).status).toBe(503);
  freezer.thaw();
  await eventually(async () => (await read()).status === 200 && (await write()).status === 201);
}, 60_000);
