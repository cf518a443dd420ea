/** Backups at another host by SFTP, keys that are lost, places that are full, gone or slow, and machines that burnt. */
import { randomBytes } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, connect, type Server } from 'node:net';
import { join } from 'node:path';
import { type BackupDocument, type HttpClient, operations } from '@orchard/contract';
import { SmallDisk } from '@orchard/simulators';
import { afterAll, beforeAll, expect, inject, it, vi } from 'vitest';
import { scratchDirectory } from './scratch.js';
import { type SftpServer, startSftpServer } from './sftpServer.js';
import { callApp, eventually, makeApp, type Place, signUp, startTestService, type TestService } from './support.js';

const own = operations.backups;
const KEY = 'b2'.repeat(32);
const NEWER = 'c3'.repeat(32);
let host: SftpServer;
let test: TestService;
let dev: Place;

// Whole environments are restored, on a machine that does other things too.
vi.setConfig({ testTimeout: 300_000 });

beforeAll(async () => {
  host = await startSftpServer();
  test = await startTestService(inject('databaseUrl'), { backupsDirectory: scratchDirectory('own-backups'), backupKeys: [KEY] });
  ({ dev } = await makeApp(test, 'quillfell-hiker'));
  await test.owner.call(own.changeSettings, {
    params: dev.params,
    body: { schedule: null, keep: { days: 7, weeks: 4, months: 6 }, prove: false },
  });
});
afterAll(async () => {
  await test?.stop();
  await host?.stop();
});

const sftp = (changes: object = {}) => ({
  kind: 'sftp' as const,
  host: '127.0.0.1',
  port: host.port,
  user: host.user,
  path: host.path,
  hostKey: host.hostKey,
  privateKey: host.privateKey,
  ...changes,
});
const setPlace = (body: ReturnType<typeof sftp> | { kind: 'directory' }, client: HttpClient = test.owner) =>
  client.call(own.changePlace, { body });
const ended = (id: string, client: HttpClient = test.owner): Promise<BackupDocument> =>
  eventually(async () => {
    const now = await client.call(own.read, { params: { ...dev.params, backup: id } });
    return now.state !== 'running' ? now : null;
  }, 200_000);
const make = async () => ended((await test.owner.call(own.make, { params: dev.params, body: {} })).id);

it('says which host key a host shows before anything is sent to it, and what is wrong with a place', async () => {
  const refused = (changes: object) =>
    setPlace(sftp(changes)).then(
      () => null,
      (error) => error,
    );
  expect(await refused({ hostKey: undefined })).toMatchObject({ problem: 'invalid-input', detail: expect.stringContaining(host.hostKey) });
  expect(await refused({ hostKey: `SHA256:${'A'.repeat(43)}` })).toMatchObject({
    detail: expect.stringMatching(/another host key.*somebody may be in between/),
  });
  expect(await refused({ user: 'nobody-there' })).toMatchObject({
    problem: 'backup-place-unusable',
    detail: expect.stringContaining('refuses nobody-there'),
  });
  expect(await refused({ port: 1 })).toMatchObject({ detail: expect.stringContaining('cannot be reached') });
  expect(await refused({ path: '/proc/nothing' })).toMatchObject({ problem: 'backup-place-unusable' });
  expect(await test.owner.call(own.place, {})).toMatchObject({ kind: 'directory' });
});

it('makes backups at an SFTP host, and a machine that was set up anew restores all of it from there', async () => {
  await setPlace(sftp());
  expect(JSON.stringify(await test.owner.call(own.place, {}))).not.toContain('PRIVATE');
  await test.app('PUT', '/data/huts/fellgate', { key: dev.serverKey, body: { name: 'Fellgate', beds: 12 } });
  await test.app('PUT', '/files/ridge.txt', { key: dev.serverKey, body: 'the ridge', headers: { 'content-type': 'text/plain' } });
  const runa = await signUp(test, dev.clientKey, 'runa');
  const gone = await signUp(test, dev.clientKey, 'gone');
  await test.owner
    .call(operations.functions.putSecret, { params: { ...dev.params, secret: 'WEATHER' }, body: { value: 'sunny-and-dry' } })
    .catch(() => undefined);
  const backup = await make();
  expect(backup).toMatchObject({ state: 'done', problem: null, place: expect.stringContaining('sftp://') });
  await test.owner.call(operations.users.remove, { params: { ...dev.params, user: gone.id } });
  // The list of erasures goes there too, within a minute or with the next backup.
  await make();

  const fresh = await startTestService(inject('databaseUrl'), { backupsDirectory: scratchDirectory('fresh-backups'), backupKeys: [NEWER] });
  try {
    await setPlace(sftp(), fresh.owner);
    // The key of the machine that burnt is not here: that is said at once, for each of them.
    const found = await fresh.owner.call(own.found, {});
    expect(found.items.find(({ id }) => id === backup.id)).toMatchObject({ key: { here: false } });
    const asked = { params: { backup: backup.id }, body: { app: 'quillfell-hiker', environment: 'dev' } };
    await expect(fresh.owner.call(own.restoreGone, asked)).rejects.toMatchObject({
      problem: 'backup-key-missing',
      detail: expect.stringContaining('ORCHARD_BACKUP_KEY'),
    });
  } finally {
    await fresh.stop();
  }

  const again = await startTestService(inject('databaseUrl'), {
    backupsDirectory: scratchDirectory('again-backups'),
    backupKeys: [NEWER, KEY],
  });
  try {
    await setPlace(sftp(), again.owner);
    await again.owner.call(own.found, {});
    const asked = { params: { backup: backup.id }, body: { app: 'quillfell-hiker', environment: 'dev' } };
    const begun = await again.owner.call(own.restoreGone, asked);
    const restore = await eventually(async () => {
      const now = await again.owner.call(own.readRestore, { params: { ...dev.params, restore: begun.id } }).catch(() => begun);
      return now.state !== 'running' ? now : null;
    }, 200_000);
    expect(restore).toMatchObject({ state: 'done', problem: null });
    // Apps go on with the keys that they have, and people with their sessions.
    expect((await callApp(again.address, 'GET', '/data/huts/fellgate', { key: dev.serverKey })).body).toMatchObject({ name: 'Fellgate' });
    expect((await callApp(again.address, 'GET', '/users/me', { key: dev.clientKey, token: runa.token })).status).toBe(200);
    expect((await callApp(again.address, 'GET', '/files/ridge.txt', { key: dev.serverKey })).text).toBe('the ridge');
    // Who was erased since the backup is erased again, by the list beside the backups.
    expect((await callApp(again.address, 'GET', `/users/${gone.id}`, { key: dev.serverKey })).status).toBe(404);
  } finally {
    await again.stop();
  }
});

const disk = new SmallDisk(scratchDirectory('small-disk'), '1m');
afterAll(() => disk.remove());

it.runIf(disk.isThere)('says that a disk is full, leaves nothing half-made there, and goes on once there is room', async () => {
  const full = await startTestService(inject('databaseUrl'), { backupsDirectory: disk.directory, backupKeys: [KEY] });
  try {
    const { dev: own } = await makeApp(full, 'crowded');
    await full.owner.call(operations.backups.changeSettings, {
      params: own.params,
      body: { schedule: null, keep: { days: 7, weeks: 4, months: 6 }, prove: false },
    });
    const noise = randomBytes(1_200_000).toString('base64');
    await full.app('PUT', '/files/noise.bin', { key: own.serverKey, body: noise, headers: { 'content-type': 'application/octet-stream' } });
    const make = async () => {
      const { id } = await full.owner.call(operations.backups.make, { params: own.params, body: {} });
      return eventually(async () => {
        const now = await full.owner.call(operations.backups.read, { params: { ...own.params, backup: id } });
        return now.state !== 'running' ? now : null;
      }, 200_000);
    };
    expect(await make()).toMatchObject({ state: 'failed', problem: expect.stringContaining('no room left') });
    expect(readdirSync(disk.directory, { recursive: true }).filter((name) => /part$|manifest/.test(String(name)))).toEqual([]);
    disk.free('20m');
    expect(await make()).toMatchObject({ state: 'done' });
  } finally {
    await full.stop();
  }
});

it('says that a place is gone or refuses, and leaves nothing half-made there', async () => {
  const directory = test.config.backupsDirectory;
  await setPlace({ kind: 'directory' });
  await make();
  const folder = join(directory, 'quillfell-hiker');
  rmSync(folder, { recursive: true });
  mkdirSync(folder);
  if (process.getuid?.() !== 0) {
    chmodSync(folder, 0o500);
    expect(await make()).toMatchObject({ state: 'failed', problem: expect.stringContaining('may not write') });
    chmodSync(folder, 0o700);
  }
  // A file where a folder should be: the place cannot be used.
  rmSync(folder, { recursive: true });
  writeFileSync(folder, '');
  const failed = await make();
  expect(failed).toMatchObject({ state: 'failed', problem: expect.stringMatching(/cannot be used|may not write/) });
  expect(readdirSync(directory).filter((name) => name.endsWith('.part'))).toEqual([]);
  rmSync(folder);
  expect(existsSync(folder)).toBe(false);
  const notices = await test.owner.call(operations.notices.list, {});
  expect(notices.items.some(({ title }) => title === 'A backup failed')).toBe(true);
});

it('waits for a slow place, and gives up one that goes away in the middle', async () => {
  const proxy = await slowProxy(host.port);
  try {
    await setPlace(sftp({ port: proxy.port, path: `${host.path}/slow` }));
    proxy.slow();
    const begun = await test.owner.call(own.make, { params: dev.params, body: {} });
    expect(await ended(begun.id)).toMatchObject({ state: 'done' });
    await test.app('PUT', '/data/huts/more', { key: dev.serverKey, body: { name: 'x'.repeat(300_000), beds: 1 } });
    const second = await test.owner.call(own.make, { params: dev.params, body: {} });
    proxy.cut();
    expect(await ended(second.id)).toMatchObject({ state: 'failed', problem: expect.stringContaining('cannot be reached') });
  } finally {
    await setPlace({ kind: 'directory' });
    proxy.close();
  }
});

/** Passes bytes on; slowly if told so, and not at all once it is cut. */
async function slowProxy(to: number): Promise<{ port: number; slow: () => void; cut: () => void; close: () => void }> {
  let waitMs = 0;
  let isCut = false;
  const sockets = new Set<import('node:net').Socket>();
  const server: Server = createServer((from) => {
    if (isCut) return from.destroy();
    const behind = connect(to, '127.0.0.1');
    sockets.add(from).add(behind);
    for (const [a, b] of [
      [from, behind],
      [behind, from],
    ] as const) {
      a.on('data', (chunk) => {
        a.pause();
        setTimeout(() => b.write(chunk, () => a.resume()), waitMs);
      });
      a.on('close', () => b.destroy());
      a.on('error', () => b.destroy());
    }
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return {
    port: (server.address() as { port: number }).port,
    slow: () => {
      waitMs = 3;
    },
    cut: () => {
      isCut = true;
      for (const socket of sockets) socket.destroy();
    },
    close: () => server.close(),
  };
}
