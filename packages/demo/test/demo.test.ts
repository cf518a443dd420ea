import { type ChildProcess, spawn, spawnSync } from 'node:child_process';
import { existsSync, readFileSync, rmSync } from 'node:fs';
import { createServer, type AddressInfo } from 'node:net';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { scratchDirectory } from '../../service/test/scratch.js';
import { callApp, eventually } from '../../service/test/support.js';

const MAIN = fileURLToPath(new URL('../dist/main.js', import.meta.url));
const PRINTED = fileURLToPath(new URL('../../../scripts/printed.mjs', import.meta.url));
let data: string;
let port: number;
let running: ChildProcess | undefined;

async function freePort(): Promise<number> {
  const probe = createServer().listen(0, '127.0.0.1');
  await new Promise((resolve) => probe.once('listening', resolve));
  const { port: found } = probe.address() as AddressInfo;
  await new Promise((resolve) => probe.close(resolve));
  return found;
}

/** Starts the demo and waits for its greeting, or its end. */
function demo(...args: string[]): Promise<{ text: string; code: number | null; child: ChildProcess }> {
  const child = spawn(process.execPath, [MAIN, '--port', String(port), '--data', data, ...args], { stdio: ['ignore', 'pipe', 'pipe'] });
  let text = '';
  return new Promise((resolve) => {
    const hear = (chunk: Buffer) => {
      text += chunk;
      if (text.includes('Ctrl-C stops')) resolve({ text, code: null, child });
    };
    child.stdout.on('data', hear);
    child.stderr.on('data', hear);
    child.once('exit', (code) => resolve({ text, code, child }));
  });
}
const end = (child: ChildProcess, signal: NodeJS.Signals) =>
  new Promise((resolve) => {
    child.once('exit', resolve);
    child.kill(signal);
  });
const isFree = () =>
  fetch(`http://127.0.0.1:${port}/healthz`).then(
    () => false,
    () => true,
  );

beforeAll(async () => {
  data = scratchDirectory('demo');
  port = await freePort();
});
afterAll(async () => {
  if (running) await end(running, 'SIGINT');
  rmSync(data, { recursive: true, force: true });
});

it('seeds the scenario, stops cleanly on Ctrl-C, keeps the data, and recovers from being killed', async () => {
  const first = await demo();
  running = first.child;
  expect(first.text).toContain(`Console    http://127.0.0.1:${port}`);
  const file = JSON.parse(readFileSync(join(data, 'demo.json'), 'utf8'));
  expect(file).toMatchObject({
    url: `http://127.0.0.1:${port}`,
    member: { email: expect.any(String), password: expect.any(String) },
    app: 'quillfell-hiker',
    environment: 'dev',
    clientKey: expect.stringMatching(/^ckey-/),
    serverKey: expect.stringMatching(/^skey-/),
    user: { email: expect.any(String), password: expect.any(String) },
  });
  const huts = () => callApp(file.url, 'GET', '/data/huts', { key: file.clientKey });
  expect((await huts()).body.items).toHaveLength(14);
  expect((await callApp(file.url, 'POST', '/sessions', { key: file.clientKey, body: file.user })).status).toBe(201);
  expect((await fetch(file.simulators.handsets)).status).toBe(200);
  const second = await demo();
  expect(second.code).toBe(1);
  expect(second.text).toContain('is in use by process');
  const stored = await callApp(file.url, 'PUT', '/data/bulletins/kept', { key: file.serverKey, body: { title: 'kept' } });
  expect(stored.status).toBe(201);
  await end(first.child, 'SIGINT');
  expect(await isFree()).toBe(true);
  expect(existsSync(join(data, 'service.lock'))).toBe(false);

  const again = await demo();
  running = again.child;
  expect(again.text).not.toContain('seeding');
  expect((await callApp(file.url, 'GET', '/data/bulletins/kept', { key: file.clientKey })).body.title).toBe('kept');
  await end(again.child, 'SIGKILL');
  await eventually(isFree);
  const recovered = await demo();
  running = recovered.child;
  expect((await callApp(file.url, 'GET', '/data/bulletins/kept', { key: file.clientKey })).body.title).toBe('kept');
});

it('answers the commands of the documents with what they print', () => {
  const { status, stderr } = spawnSync(process.execPath, [PRINTED, '--check', '--demo', data], { encoding: 'utf8' });
  expect({ status, stderr }).toMatchObject({ status: 0 });
});

it('says what it does not understand', async () => {
  expect(await demo('--colour', 'red')).toMatchObject({ code: 2, text: expect.stringContaining('Usage: npm run demo') });
});
