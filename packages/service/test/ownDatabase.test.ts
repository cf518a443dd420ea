import { readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { createHttpClient, operations } from '@orchard/contract';
import pino from 'pino';
import { afterEach, beforeEach, expect, inject, it } from 'vitest';
import { readConfig } from '../src/platform/config.js';
import { type RunningService, startService } from '../src/service.js';
import { scratchDirectory } from './scratch.js';
import { type AppOptions, callApp, eventually, listenTo, makeApp, OWNER, signUp } from './support.js';

let directory: string;
let service: RunningService | undefined;
const log = pino({ level: 'silent' });
const config = () =>
  readConfig({
    ORCHARD_PORT: '0',
    ORCHARD_DATA: directory,
    ORCHARD_REQUEST_DAYS: '2',
    ORCHARD_KEY_RATE: '100000',
    ORCHARD_ADDRESS_RATE: '100000',
  });
beforeEach(() => {
  directory = scratchDirectory('own');
});
afterEach(async () => {
  await service?.stop();
  service = undefined;
  rmSync(directory, { recursive: true, force: true });
});

async function begin() {
  service = await startService(config(), log);
  const { address } = service;
  const token = new URL(service.setupAddress as string).searchParams.get('token') as string;
  const anyone = createHttpClient({ address });
  await anyone.call(operations.members.setUp, { body: { token, ...OWNER } });
  const signedIn = await anyone.call(operations.members.signIn, { body: { ...OWNER, name: undefined, as: 'token' } as never });
  const owner = createHttpClient({ address, headers: () => ({ authorization: `Bearer ${signedIn.token}` }) });
  const { dev } = await makeApp({ owner }, 'quillfell-hiker');
  const app = (method: string, path: string, options?: AppOptions) => callApp(address, method, path, options);
  const runa = await signUp({ app }, dev.clientKey, 'runa');
  return { address, owner, dev, as: { key: dev.clientKey, token: runa.token }, app };
}

it('killed while serving, MariaDB comes back by itself: 503 with Retry-After meanwhile, and nothing acknowledged is lost', async () => {
  const { app, as, owner, dev } = await begin();
  const acknowledged: string[] = [];
  const refused: { status: number; retryAfter: string | null }[] = [];
  await app('POST', '/data/huts', { ...as, body: { n: -1 } });
  const before = service?.databasePid() as number;
  const until = Date.now() + 4000;
  let n = 0;
  const writer = async () => {
    while (Date.now() < until || refused.length === 0) {
      const answer = await app('POST', '/data/huts', { ...as, body: { n: n++ } });
      if (answer.status === 201) acknowledged.push(answer.body.id);
      else refused.push({ status: answer.status, retryAfter: answer.headers.get('retry-after') });
      if (answer.status !== 201) await new Promise((resolve) => setTimeout(resolve, 30));
    }
  };
  const writers = [writer(), writer(), writer()];
  await eventually(() => acknowledged.length > 20);
  process.kill(before, 'SIGKILL');
  await Promise.all(writers);
  expect(service?.databasePid()).not.toBe(before);
  expect(new Set(refused.map(({ status }) => status))).toEqual(new Set([503]));
  expect(refused.every(({ retryAfter }) => Number(retryAfter) > 0)).toBe(true);
  const kept = new Set<string>();
  for (let cursor = ''; ; ) {
    const { body } = await eventually(async () => {
      const page = await app('GET', `/data/huts?limit=1000${cursor ? `&cursor=${cursor}` : ''}`, as);
      return page.status === 200 && page;
    });
    for (const { id } of body.items) kept.add(id);
    if (!body.next) break;
    cursor = body.next;
  }
  expect(acknowledged.filter((id) => !kept.has(id))).toEqual([]);
  // The calls made while the database was away are counted too.
  const usage = await eventually(async () => {
    const read = await owner.call(operations.telemetry.usage, { params: dev.params });
    return read.total.serverErrors >= refused.length && read;
  });
  expect(usage.total.serverErrors).toBe(refused.length);
});

it('goes on telling live readers what changes, over a killed MariaDB and a start of its own, with no gap and no double', async () => {
  const { address, app, as } = await begin();
  await app('POST', '/data/huts', { ...as, body: { n: 0 } });
  const reader = await listenTo(address, 'huts', as);
  await reader.next('ready');
  const numbers = (from: Pick<typeof reader, 'of'>) => from.of('entered').map(({ data }) => (data as { record: { n: number } }).record.n);
  const write = (n: number) =>
    eventually(async () => {
      const { status } = await app('PUT', `/data/huts/hut-${n}`, { ...as, body: { n } });
      return status === 201 || status === 200;
    });
  await write(1);
  process.kill(service?.databasePid() as number, 'SIGKILL');
  await write(2);
  await eventually(() => numbers(reader).includes(2));
  const last = reader.events.filter(({ id }) => id).at(-1)?.id as string;
  await service?.stop();
  await reader.ended;
  service = await startService(config(), log);
  expect((await callApp(service.address, 'PUT', '/data/huts/hut-3', { ...as, body: { n: 3 } })).status).toBe(201);
  const again = await listenTo(service.address, 'huts', as, last);
  await eventually(() => numbers(again).includes(3));
  again.stop();
  expect([...numbers(reader), ...numbers(again)]).toEqual([1, 2, 3]);
});

it('a second start on the same data directory says so and stops; one after a kill goes on', async () => {
  const { app, as } = await begin();
  await app('POST', '/data/huts', { ...as, body: { name: 'kept' } });
  await expect(startService(config(), log)).rejects.toThrow(/is in use by process \d+/);
  expect((await app('GET', '/data/huts', as)).body.items).toHaveLength(1);
  await service?.stop();
  // What a killed process leaves: a lock of a process that is gone.
  writeFileSync(join(directory, 'service.lock'), JSON.stringify({ pid: 999_999_999, started: '1' }));
  service = await startService(config(), log);
  expect(service.setupAddress).toBeNull();
  expect((await callApp(service.address, 'GET', '/data/huts', as)).body.items[0].name).toBe('kept');
});

it('a start with another secret key than the database was made with says so and stops', async () => {
  const url = new URL(inject('databaseUrl'));
  url.pathname = `/test_key_${Math.random().toString(36).slice(2, 8)}`;
  const start = (key: string) =>
    startService({ ...config(), databaseUrl: url.toString(), secretKey: Buffer.from(key.repeat(64), 'hex') }, log);
  await (await start('a')).stop();
  await expect(start('b')).rejects.toThrow('another secret key');
  await (await start('a')).stop();
});

it('keeps its secrets readable by nobody else', async () => {
  service = await startService(config(), log);
  for (const file of ['secret.key', 'mariadb.json', 'mariadb-init.sql']) expect(statSync(join(directory, file)).mode & 0o077).toBe(0);
  expect(readFileSync(join(directory, 'secret.key'), 'utf8')).toMatch(/^[0-9a-f]{64}\n$/);
});
