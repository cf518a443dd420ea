/** Backups of an environment, their proof, and what is restored from them. */
import { execFileSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { gunzipSync } from 'node:zlib';
import { type ArchiveManifest, type BackupDocument, operations, type RestoreDocument } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it, vi } from 'vitest';
import { scratchDirectory } from './scratch.js';
import { eventually, makeApp, type Place, signUp, startTestService, type TestService } from './support.js';

const own = operations.backups;
const KEY = 'a1'.repeat(32);
let store: string;
let test: TestService;
let dev: Place;

// Whole environments are restored, on a machine that does other things too.
vi.setConfig({ testTimeout: 300_000 });

beforeAll(async () => {
  store = scratchDirectory('backups');
  test = await startTestService(inject('databaseUrl'), { backupsDirectory: store, backupKeys: [KEY] });
  ({ dev } = await makeApp(test, 'quillfell-hiker'));
});
afterAll(async () => {
  await test?.stop();
  rmSync(store, { recursive: true, force: true });
});

const key = () => dev.serverKey;
const put = (path: string, body: unknown) => test.app('PUT', path, { key: key(), body });
const get = async (path: string) => (await test.app('GET', path, { key: key() })).body;
const backupEnded = (id: string, place = dev): Promise<BackupDocument> =>
  eventually(async () => {
    const now = await test.owner.call(own.read, { params: { ...place.params, backup: id } });
    return now.state !== 'running' ? now : null;
  }, 200_000);
const proved = (id: string, whole: boolean): Promise<BackupDocument> =>
  eventually(async () => {
    const now = await test.owner.call(own.read, { params: { ...dev.params, backup: id } });
    return now.proof?.whole === whole ? now : null;
  }, 200_000);
const prove = async (id: string, whole: boolean) => {
  await test.owner.call(own.prove, { params: { ...dev.params, backup: id } });
  return proved(id, whole);
};
const settle = (prove: boolean) =>
  test.owner.call(own.changeSettings, { params: dev.params, body: { schedule: null, keep: { days: 7, weeks: 4, months: 6 }, prove } });
const make = async (note = ''): Promise<BackupDocument> =>
  backupEnded((await test.owner.call(own.make, { params: dev.params, body: { note } })).id);
const restoreEnded = ({ id }: RestoreDocument, place = dev): Promise<RestoreDocument> =>
  eventually(async () => {
    const now = await test.owner.call(own.readRestore, { params: { ...place.params, restore: id } });
    return now.state !== 'running' ? now : null;
  }, 200_000);
const folder = () => join(store, dev.params.app, dev.params.environment);
const manifestOf = (id: string): ArchiveManifest => JSON.parse(readFileSync(join(folder(), id, 'manifest.json'), 'utf8'));
const objectFile = (name: string) => join(folder(), 'objects', name.slice(0, 2), name);
const objects = () => readdirSync(join(folder(), 'objects')).flatMap((one) => readdirSync(join(folder(), 'objects', one)));

describe('a backup', () => {
  it('holds every table and file, is proved by restoring it, and shares what did not change', async () => {
    await put('/data/huts/fellgate', {
      name: "Fellgate “Hut”\n\\o/ 'quoted'",
      beds: 12,
      at: { type: 'Point', coordinates: [7.123456789, 46.5] },
      tags: ['a', 'b'],
    });
    await put('/data/huts/tarn', { name: 'Tarn', beds: 8, opens: '2026-05-01', height: 1234.5678901234567 });
    await signUp(test, dev.clientKey, 'runa');
    expect(
      (await test.app('PUT', '/files/notes/ridge.txt', { key: key(), body: 'the ridge', headers: { 'content-type': 'text/plain' } }))
        .status,
    ).toBeLessThan(300);
    const made = await make('before the season');
    expect(made).toMatchObject({ state: 'done', note: 'before the season', files: 1, key: { here: true } });
    const first = await proved(made.id, true);
    await settle(false);
    expect(first.proof?.text).toMatch(/rows in \d+ tables and 1 files are as they were/);
    const second = await make();
    expect(second.newBytes).toBeLessThan(first.newBytes / 2);
    const { tables } = manifestOf(first.id);
    expect(tables.find(({ name }) => name === 'huts')).toMatchObject({ collection: true, rows: 2 });
  });

  it('opens with OpenSSL and gunzip alone', async () => {
    const { items } = await test.owner.call(own.list, { params: dev.params });
    const huts = manifestOf(items[0]?.id as string).tables.find(({ name }) => name === 'huts');
    const password = join(scratchDirectory('password'), 'key');
    writeFileSync(password, KEY);
    const object = objectFile(huts?.parts[0]?.object as string);
    const packed = execFileSync('openssl', [
      'enc',
      '-d',
      '-aes-256-cbc',
      '-pbkdf2',
      '-iter',
      '1',
      '-pass',
      `file:${password}`,
      '-in',
      object,
    ]);
    const lines = gunzipSync(packed)
      .toString()
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line));
    expect(lines).toHaveLength(2);
    const at = (name: string) => huts?.columns.findIndex((column) => column.name === name) as number;
    expect(lines[0][at('name')]).toBe("Fellgate “Hut”\n\\o/ 'quoted'");
    expect(JSON.stringify(manifestOf(items[0]?.id as string))).not.toContain(KEY);
  });

  it('of which one byte has changed is found by its proof, and is not restored', async () => {
    const backup = await make();
    const part = manifestOf(backup.id).tables.find(({ name }) => name === 'huts')?.parts[0]?.object as string;
    const whole = readFileSync(objectFile(part));
    const changed = Buffer.from(whole);
    changed[40] = (changed[40] as number) ^ 1;
    writeFileSync(objectFile(part), changed);
    const restore = await restoreEnded(
      await test.owner.call(own.restore, { params: { ...dev.params, backup: backup.id }, body: { into: 'never' } }),
    );
    expect(restore).toMatchObject({ state: 'failed', problem: expect.stringContaining('is damaged') });
    expect((await test.owner.call(operations.apps.list, {})).items[0]?.environments.map(({ name }) => name)).toEqual(['dev', 'live']);
    expect((await prove(backup.id, false)).proof?.text).toContain('is damaged');
    // What is damaged is stored anew by the next one.
    expect(existsSync(objectFile(part))).toBe(false);
    await make();
    await prove(backup.id, true);
    expect(readFileSync(objectFile(part)).length).toBe(whole.length);
  });

  it('whose manifest was cut short, changed, or comes from a newer version is said so', async () => {
    const { id } = await make();
    const file = join(folder(), id, 'manifest.json');
    const text = readFileSync(file, 'utf8');
    const planned = () => test.owner.call(own.plan, { params: { ...dev.params, backup: id } });
    writeFileSync(file, text.slice(0, text.length / 2));
    await expect(planned()).rejects.toMatchObject({ problem: 'backup-unreadable', detail: expect.stringContaining('cut short') });
    writeFileSync(file, text.replace('"rows":2', '"rows":3'));
    await expect(planned()).rejects.toMatchObject({ problem: 'backup-unreadable', detail: expect.stringContaining('changed after') });
    writeFileSync(file, text.replace('"archive":1', '"archive":2'));
    await expect(planned()).rejects.toMatchObject({ detail: expect.stringContaining('Update the service') });
    writeFileSync(file, text);
    await planned();
  });

  it('whose key is gone is said so at once, in the list and to the team', async () => {
    const backup = await make();
    const { database, jobs, directory } = test.service.parts;
    const mark = (of: string) => database.orm.execute(`UPDATE backups SET keyMark = '${of}' WHERE id = '${backup.id}'`);
    await mark('0123456789ab');
    const { items } = await test.owner.call(own.list, { params: dev.params });
    expect(items.find(({ id }) => id === backup.id)?.key).toEqual({ mark: '0123456789ab', here: false });
    await expect(test.owner.call(own.plan, { params: { ...dev.params, backup: backup.id } })).rejects.toMatchObject({
      problem: 'backup-key-missing',
    });
    await jobs.hasten(directory.installation(), 'begin backups that are due');
    await eventually(async () =>
      (await test.owner.call(operations.notices.list, {})).items.some(({ body }) => body.includes('the key 0123456789ab')),
    );
    await mark(backup.key.mark as string);
  });

  it('is removed with what only it consists of', async () => {
    await put('/data/huts/short', { name: 'x'.repeat(1000), beds: 1 });
    const before = new Set(objects());
    const { id } = await make();
    expect(objects().some((name) => !before.has(name))).toBe(true);
    await test.owner.call(own.remove, { params: { ...dev.params, backup: id } });
    expect(objects().filter((name) => !before.has(name))).toEqual([]);
    await test.app('DELETE', '/data/huts/short', { key: key() });
  });
});

describe('a restore', () => {
  it('as a new environment has the records, users and files, without keys or anything that runs by itself', async () => {
    const backup = await make();
    await put('/data/huts/tarn', { name: 'Changed since', beds: 9 });
    const ended = await restoreEnded(
      await test.owner.call(own.restore, { params: { ...dev.params, backup: backup.id }, body: { into: 'rehearsal' } }),
    );
    expect(ended).toMatchObject({ state: 'done', problem: null });
    const params = { app: dev.params.app, environment: 'rehearsal' };
    const records = await test.owner.call(operations.managedRecords.list, { params: { ...params, collection: 'huts' }, query: {} });
    expect(records.items.map(({ name }) => name)).toContain('Tarn');
    expect((await test.owner.call(operations.users.list, { params, query: {} })).items).toHaveLength(1);
    const clients = (await test.owner.call(operations.clients.list, { params })).items;
    expect(clients.length).toBeGreaterThan(0);
    expect(clients.flatMap(({ keys }) => keys)).toEqual([]);
    await put('/data/huts/tarn', { name: 'Tarn', beds: 8 });
  });

  it('in its place keeps keys and sessions, takes back what was written since, and can be undone', async () => {
    const hiker = await signUp(test, dev.clientKey, 'odd');
    const backup = await make();
    const plan0 = await test.owner.call(own.plan, { params: { ...dev.params, backup: backup.id } });
    expect(plan0.losses[0]).not.toMatch(/changes of records/);
    await put('/data/huts/since', { name: 'Made since', beds: 3 });
    await put('/data/later/one', { any: 1 });
    const plan = await test.owner.call(own.plan, { params: { ...dev.params, backup: backup.id } });
    expect(plan.losses.join('\n')).toMatch(/2 changes of records and users[\s\S]*The collection later/);
    const restore = await test.owner.call(own.restore, { params: { ...dev.params, backup: backup.id }, body: {} });
    await expect(test.owner.call(own.make, { params: dev.params, body: {} })).rejects.toMatchObject({ problem: 'backup-in-progress' });
    const ended = await restoreEnded(restore);
    expect(ended).toMatchObject({ state: 'done', undoUntil: expect.any(String) });
    expect((await test.app('GET', '/data/huts/since', { key: key() })).status).toBe(404);
    expect((await test.app('GET', '/data/later/one', { key: key() })).status).toBe(404);
    expect((await test.app('GET', '/users/me', { key: dev.clientKey, token: hiker.token })).status).toBe(200);
    expect((await test.app('GET', '/files/notes/ridge.txt', { key: key() })).text).toBe('the ridge');
    // What comes next reaches devices that had seen more than the backup has.
    expect((await put('/data/huts/next', { name: 'After', beds: 1 })).status).toBe(201);
    await test.owner.call(own.undo, { params: { ...dev.params, restore: restore.id } });
    expect(await get('/data/huts/since')).toMatchObject({ name: 'Made since' });
    expect((await test.app('GET', '/data/huts/next', { key: key() })).status).toBe(404);
    await expect(test.owner.call(own.undo, { params: { ...dev.params, restore: restore.id } })).rejects.toMatchObject({
      problem: 'wrong-state',
    });
  });

  it('to a moment has records and users to the second, and people who were erased stay erased', async () => {
    const gone = await signUp(test, dev.clientKey, 'siv');
    await put('/data/huts/moment', { name: 'In the backup', beds: 2 });
    const backup = await make();
    await put('/data/huts/moment', { name: 'Before the moment', beds: 3 });
    await signUp(test, dev.clientKey, 'after-the-backup');
    await new Promise((resolve) => setTimeout(resolve, 1100));
    const moment = new Date().toISOString();
    await new Promise((resolve) => setTimeout(resolve, 1100));
    await put('/data/huts/moment', { name: 'After the moment', beds: 4 });
    await put('/data/huts/too-late', { name: 'After the moment', beds: 4 });
    await test.owner.call(operations.users.remove, { params: { ...dev.params, user: gone.id } });
    const feed = await test.service.parts.directory.environment(dev.params.app, 'dev');
    const kept = await feed.db.rows<{ text: string }>(
      `SELECT CONCAT(COALESCE(\`before\`, ''), COALESCE(\`after\`, '')) AS text FROM ${feed.db.collection('_feed')} WHERE recordId = ?`,
      [gone.id],
    );
    expect(kept.map(({ text }) => text).join('')).not.toContain('siv@');
    const ended = await restoreEnded(
      await test.owner.call(own.restore, { params: { ...dev.params, backup: backup.id }, body: { into: 'at-noon', moment } }),
    );
    expect(ended).toMatchObject({ state: 'done' });
    expect(ended.notes.join('\n')).toMatch(/records and users are as of[\s\S]*erased again/);
    const params = { app: dev.params.app, environment: 'at-noon' };
    const { items } = await test.owner.call(operations.managedRecords.list, {
      params: { ...params, collection: 'huts' },
      query: { limit: 100 },
    });
    expect(items.find(({ id }) => id === 'moment')).toMatchObject({ name: 'Before the moment' });
    expect(items.some(({ id }) => id === 'too-late')).toBe(false);
    const users = (await test.owner.call(operations.users.list, { params, query: { limit: 100 } })).items.map(({ email }) => email);
    expect(users.some((email) => email?.startsWith('after-the-backup@'))).toBe(true);
    expect(users.some((email) => email?.startsWith('siv@'))).toBe(false);
  });

  it('of records brings back those that a filter names, as changes that apps hear of', async () => {
    await put('/data/trails/a', { name: 'A', hut: 'north' });
    await put('/data/trails/b', { name: 'B', hut: 'south' });
    const backup = await make();
    await put('/data/trails/a', { name: 'spoilt', hut: 'north' });
    await put('/data/trails/b', { name: 'spoilt', hut: 'south' });
    await put('/data/trails/c', { name: 'new', hut: 'north' });
    const some = await restoreEnded(
      await test.owner.call(own.restoreRecords, {
        params: dev.params,
        body: { collection: 'trails', backup: backup.id, filter: "hut = 'north'" },
      }),
    );
    expect(some).toMatchObject({ state: 'done', rows: 1 });
    expect(await get('/data/trails/a')).toMatchObject({ name: 'A', version: 3 });
    expect(await get('/data/trails/b')).toMatchObject({ name: 'spoilt' });
    await test.app('DELETE', '/data/trails/b', { key: key() });
    const all = await restoreEnded(
      await test.owner.call(own.restoreRecords, {
        params: dev.params,
        body: { collection: 'trails', backup: backup.id, removeOthers: true },
      }),
    );
    expect(all.notes.join(' ')).toContain('1 records that did not exist then were deleted');
    expect((await get('/data/trails')).items.map(({ id, name }: { id: string; name: string }) => [id, name]).sort()).toEqual([
      ['a', 'A'],
      ['b', 'B'],
    ]);
  });

  it('of records to a moment needs no backup', async () => {
    await put('/data/routes/a', { name: 'A', beds: 1 });
    await put('/data/routes/b', { name: 'B', beds: 2 });
    await new Promise((resolve) => setTimeout(resolve, 50));
    const moment = new Date().toISOString();
    await new Promise((resolve) => setTimeout(resolve, 50));
    await put('/data/routes/a', { name: 'spoilt', beds: 3 });
    await test.app('DELETE', '/data/routes/b', { key: key() });
    await put('/data/routes/c', { name: 'new', beds: 4 });
    const ended = await restoreEnded(
      await test.owner.call(own.restoreRecords, { params: dev.params, body: { collection: 'routes', moment, removeOthers: true } }),
    );
    expect(ended).toMatchObject({ state: 'done', problem: null });
    expect((await get('/data/routes')).items.map(({ id, name }: { id: string; name: string }) => [id, name]).sort()).toEqual([
      ['a', 'A'],
      ['b', 'B'],
    ]);
  });

  it('into a collection whose fields have changed says what it leaves out', async () => {
    await put('/data/lakes/one', { name: 'One', depth: 4 });
    const backup = await make();
    await test.owner
      .call(operations.collections.patch, { params: { ...dev.params, collection: 'lakes' }, body: { dropFields: ['depth'] } as never })
      .catch(() => undefined);
    await put('/data/lakes/one', { name: 'spoilt', shore: 'sand' });
    const ended = await restoreEnded(
      await test.owner.call(own.restoreRecords, { params: dev.params, body: { collection: 'lakes', backup: backup.id } }),
    );
    expect(ended.state).toBe('done');
    expect(ended.notes.join(' ')).toContain('shore came later');
    expect(await get('/data/lakes/one')).toMatchObject({ name: 'One', shore: 'sand' });
  });
});
