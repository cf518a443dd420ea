import { type ChildProcess, spawn, spawnSync } from 'node:child_process';
import { existsSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { areFree, freePorts } from '../../service/test/ports.js';
import { scratchDirectory } from '../../service/test/scratch.js';
import { callApp, eventually } from '../../service/test/support.js';

const MAIN = fileURLToPath(new URL('../dist/main.js', import.meta.url));
const PRINTED = fileURLToPath(new URL('../../../scripts/printed.mjs', import.meta.url));
let data: string;
let port: number;
/** Those that run: none outlives this file, whatever happens in it. */
const started = new Set<ChildProcess>();

/** The service's port, and those of the simulators after it. */
const PORTS = 14;
/** Those of the demo's own programs; the association's database, which comes next, outlives a kill and is taken over. */
const OWN_PORTS = 12;

/** Starts the demo and waits for its greeting, or its end. */
function demo(...args: string[]): Promise<{ text: string; code: number | null; child: ChildProcess }> {
  const child = spawn(process.execPath, [MAIN, '--port', String(port), '--data', data, ...args], { stdio: ['ignore', 'pipe', 'pipe'] });
  started.add(child);
  child.once('exit', () => started.delete(child));
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
beforeAll(async () => {
  data = scratchDirectory('demo');
  port = await freePorts(PORTS);
});
afterAll(async () => {
  for (const child of started) await end(child, 'SIGINT');
  rmSync(data, { recursive: true, force: true });
});

const huts = (url: string, key: string) => callApp(url, 'GET', '/data/huts', { key });
const fileOf = () => JSON.parse(readFileSync(join(data, 'demo.json'), 'utf8'));
/** A start that seeds, on a machine that does other things too. */
const SEEDING_MS = 900_000;

it('seeds the scenario, refuses a second start on the same data, and keeps what was stored when it is killed', {
  timeout: SEEDING_MS,
}, async () => {
  const first = await demo();
  expect(first.text).toContain(`Console    http://127.0.0.1:${port}`);
  const file = fileOf();
  expect(file).toMatchObject({
    url: `http://127.0.0.1:${port}`,
    member: { email: expect.any(String), password: expect.any(String) },
    app: 'quillfell-hiker',
    environment: 'dev',
    clientKey: expect.stringMatching(/^ckey-/),
    serverKey: expect.stringMatching(/^skey-/),
    user: { email: expect.any(String), password: expect.any(String) },
  });
  expect((await huts(file.url, file.clientKey)).body.items).toHaveLength(14);
  expect((await callApp(file.url, 'POST', '/sessions', { key: file.clientKey, body: file.user })).status).toBe(201);
  expect((await fetch(file.simulators.handsets)).status).toBe(200);
  const second = await demo();
  expect(second.code).toBe(1);
  expect(second.text).toContain('is in use by process');
  const stored = await callApp(file.url, 'PUT', '/data/bulletins/kept', { key: file.serverKey, body: { title: 'kept' } });
  expect(stored.status).toBe(201);
  await end(first.child, 'SIGKILL');
  await eventually(() => areFree(port, OWN_PORTS));
  const recovered = await demo();
  expect(recovered.text).toContain('Ctrl-C stops');
  expect(recovered.text).not.toContain('seeding');
  expect((await callApp(file.url, 'GET', '/data/bulletins/kept', { key: file.clientKey })).body.title).toBe('kept');
});

it('answers the commands of the documents with what they print', () => {
  const { status, stderr } = spawnSync(process.execPath, [PRINTED, '--check', '--demo', data], { encoding: 'utf8' });
  expect({ status, stderr }).toMatchObject({ status: 0 });
});

it('stops cleanly on Ctrl-C', async () => {
  for (const child of started) await end(child, 'SIGINT');
  expect(await areFree(port, PORTS)).toBe(true);
  expect(existsSync(join(data, 'service.lock'))).toBe(false);
});

it('says what it does not understand', async () => {
  expect(await demo('--colour', 'red')).toMatchObject({ code: 2, text: expect.stringContaining('Usage: npm run demo') });
});
