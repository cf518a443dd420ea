/** Backups, restores and moves from the command line. */
import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, expect, inject, it, vi } from 'vitest';
import { callApp, makeApp, OWNER, type Place, startTestService, type TestService } from '../../service/test/support.js';
import { openTerminal } from './terminal.js';

let test: TestService;
let dev: Place;
const { home, orchard, spawned, json } = openTerminal();
const put = (id: string, name: string) => callApp(test.address, 'PUT', `/data/huts/${id}`, { key: dev.serverKey, body: { name } });
const nameOf = async (id: string) => (await callApp(test.address, 'GET', `/data/huts/${id}`, { key: dev.serverKey })).body?.name;

// Whole environments are restored, on a machine that does other things too.
vi.setConfig({ testTimeout: 300_000 });

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'), { backupKeys: ['f6'.repeat(32)] });
  await spawned(['sign-in', test.address, '--email', OWNER.email, '--password-stdin'], `${OWNER.password}\n`);
  ({ dev } = await makeApp(test, 'hiker'));
  await orchard(['use', 'hiker/dev']);
  await orchard(['backup', 'schedule', '--every', 'never', '--no-prove']);
  await test.owner.call(operations.environments.patch, { params: { app: 'hiker', environment: 'live' }, body: { mode: 'open' } });
  await put('fellgate', 'Fellgate');
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

it('makes a backup, lists and shows it, proves it, and changes when they are made', async () => {
  const made = await orchard(['backup', 'make', '--note', 'before the season']);
  expect([made.code, made.out]).toEqual([0, expect.stringMatching(/holds +\d+ rows/)]);
  const listed = await orchard(['backup', 'list']);
  expect(listed.out).toContain('before the season');
  expect(listed.err).toContain('; key ');
  const { items } = await json('backup', 'list');
  expect(await orchard(['backup', 'prove', items[0].id])).toMatchObject({ code: 0, err: expect.stringContaining('The backup is whole.') });
  expect((await orchard(['backup', 'show', items[0].id])).out).toMatch(/proved +whole/);
  expect((await orchard(['backup', 'schedule', '--every', 'week', '--weeks', '9'])).out).toContain('"weeks":9');
});

it('unpacks a backup without the service, as files that an import reads', async () => {
  const place = { type: 'Point', coordinates: [7.123456789, 46.25] };
  const hut = {
    name: 'Kept “as it is”\n\\',
    bunks: 12,
    height: 1234.5,
    open: true,
    at: place,
    tags: ['a'],
    since: '2026-05-01T09:30:00.000Z',
  };
  expect((await callApp(test.address, 'PUT', '/data/kept/one', { key: dev.serverKey, body: hut })).status).toBe(201);
  const { id } = await json('backup', 'make');
  const folder = join(test.config.backupsDirectory, 'hiker', 'dev', id);
  const key = join(home, 'backup.key');
  writeFileSync(key, `${'f6'.repeat(32)}\n`);
  const to = join(home, 'unpacked');
  const unpacked = await orchard(['backup', 'unpack', folder, '--key-file', key, '--to', to]);
  expect([unpacked.code, unpacked.out]).toEqual([0, expect.stringContaining('kept')]);
  const imported = await orchard(['record', 'import', 'kept', join(to, 'kept.ndjson'), '--env', 'live']);
  expect(imported).toMatchObject({ code: 0 });
  const params = { app: 'hiker', environment: 'live', collection: 'kept' };
  const { items } = await test.owner.call(operations.managedRecords.list, { params, query: {} });
  expect(items).toEqual([expect.objectContaining({ id: 'one', ...hut })]);
  writeFileSync(key, `${'00'.repeat(32)}\n`);
  expect(await orchard(['backup', 'unpack', folder, '--key-file', key, '--to', to])).toMatchObject({
    code: 1,
    err: expect.stringContaining('was made with the key'),
  });
});

it('brings records back, by the change feed and from a backup', async () => {
  const moment = new Date().toISOString();
  await put('fellgate', 'spoilt');
  const back = await orchard(['backup', 'restore', '--collection', 'huts', '--moment', moment]);
  expect(back).toMatchObject({ code: 0, err: expect.stringContaining('1 of 1 records differed') });
  expect(await nameOf('fellgate')).toBe('Fellgate');
  expect(await orchard(['backup', 'restore', '--collection', 'huts'])).toMatchObject({ code: 2, err: expect.stringContaining('--moment') });
});

it('restores the environment in its place after saying what that would lose, and undoes it', async () => {
  const { items } = await json('backup', 'list');
  await put('since', 'Made since');
  const plan = await orchard(['backup', 'plan', items[0].id]);
  expect(plan.out).toMatch(/huts: 2 now, 1 then[\s\S]*! \d+ changes of records/);
  const restored = await orchard(['backup', 'restore', items[0].id, '--yes']);
  expect(restored).toMatchObject({ code: 0, err: expect.stringContaining('orchard backup undo') });
  expect(await nameOf('since')).toBeUndefined();
  const { items: restores } = await json('backup', 'restores');
  await orchard(['backup', 'undo', restores[0].id, '--yes']);
  expect(await nameOf('since')).toBe('Made since');
});

it('says where an environment could move to', async () => {
  const refused = await orchard(['env', 'move', '--to', 'south', '--plan']);
  expect([refused.code, refused.err]).toEqual([expect.any(Number), expect.stringContaining('There is no database server `south`')]);
});

it('makes a ticket for an environment of another installation, and says why one cannot come', async () => {
  const { ticket } = await json('env', 'receive');
  expect((await orchard(['env', 'arrivals'])).out).toContain('awaited');
  expect((await orchard(['env', 'move', '--yes'])).err).toContain('Say where to');
  const plan = await orchard(['env', 'move', '--to-installation', test.address, '--plan']);
  expect(plan.out).toContain('passes all calls of its apps on');
  const move = (given: string) => orchard(['env', 'move', '--to-installation', test.address, '--ticket-stdin', '--yes'], `${given}\n`);
  expect(await move(ticket)).toMatchObject({ code: 4, err: expect.stringContaining('hiker/dev is here already') });
  expect(await move(`${ticket}x`)).toMatchObject({ err: expect.stringContaining('orchard env receive') });
});
