/** Files and folders from the command line. */
import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { makeApp, OWNER, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { openTerminal } from './terminal.js';

let test: TestService;
let app: TestApp;
const { home, orchard, spawned } = openTerminal();
const local = (name: string, content: string | Buffer): string => {
  const path = join(home, name);
  mkdirSync(join(path, '..'), { recursive: true });
  writeFileSync(path, content);
  return path;
};

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  await spawned(['sign-in', test.address, '--email', OWNER.email, '--password-stdin'], `${OWNER.password}\n`);
  await orchard(['use', 'quillfell-hiker/dev']);
});
afterAll(async () => {
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

describe('orchard file', () => {
  it('uploads a folder, lists it, and downloads a file of it', async () => {
    local('maps/north/a.txt', 'north');
    local('maps/plan.txt', 'the plan');
    local('maps/empty.txt', '');
    expect(await orchard(['file', 'put', join(home, 'maps'), 'trail/maps'])).toMatchObject({ code: 0, err: 'Stored 3 files, 13 B.\n' });
    const listed = (await orchard(['file', 'ls', 'trail/maps', '--sort', 'name'])).out;
    expect(listed).toMatch(/north\/\s+5 B\s+1 file[\s\S]*empty\.txt\s+0 B[\s\S]*plan\.txt\s+8 B\s+text\/plain/);
    expect((await orchard(['file', 'ls', 'trail', '--deep', '--filter', "name = 'a.txt'"])).out).toContain('trail/maps/north/a.txt');
    const to = join(home, 'back.txt');
    expect(await orchard(['file', 'get', 'trail/maps/plan.txt', to])).toMatchObject({ code: 0, err: `Wrote ${to}, 8 B.\n` });
    expect(readFileSync(to, 'utf8')).toBe('the plan');
    expect(await orchard(['file', 'get', 'trail/none.txt', to])).toMatchObject({
      code: 5,
      err: expect.stringContaining('There is no file trail/none.txt'),
    });
    expect(await orchard(['file', 'put', join(home, 'nowhere')])).toMatchObject({ code: 2 });
  });

  it('goes on with an upload and a download that broke off', async () => {
    const content = randomBytes(20_000_000);
    const path = local('big.bin', content);
    const { params } = app.dev;
    const encoded = Buffer.from('big.bin').toString('base64');
    const begun = await test.owner.open(operations.managedFiles.begin, {
      params,
      headers: { 'Tus-Resumable': '1.0.0', 'Upload-Length': String(content.length), 'Upload-Metadata': `path ${encoded}` },
    });
    const upload = (begun.headers.get('location') as string).split('/').at(-1) as string;
    await test.owner.open(operations.managedFiles.append, {
      params: { ...params, upload },
      headers: { 'Tus-Resumable': '1.0.0', 'Upload-Offset': '0', 'content-type': 'application/offset+octet-stream' },
      raw: content.subarray(0, 12_000_000),
    });
    // As the command notes it before it sends the first part.
    const { mtimeMs, size } = await import('node:fs').then(({ statSync }) => statSync(path));
    const key = [test.address, params.app, params.environment, 'big.bin', path, size, mtimeMs].join(' ');
    local('orchard/uploads.json', JSON.stringify({ [key]: upload }));
    expect((await orchard(['file', 'put', path])).err).toBe('Stored big.bin, 20 MB; 12 MB of it were there from before.\n');
    const to = join(home, 'down.bin');
    const { digest } = await test.owner.call(operations.managedFiles.describe, { params: { ...params, path: 'big.bin' } });
    writeFileSync(`${to}.${digest.slice(0, 12)}.part`, content.subarray(0, 5_000_000));
    expect((await orchard(['file', 'get', 'big.bin', to])).err).toContain('5.0 MB of it were there from before');
    expect(readFileSync(to).equals(content)).toBe(true);
    expect(existsSync(`${to}.${digest.slice(0, 12)}.part`)).toBe(false);
  });

  it('sets the rules of folders, shares, deletes and brings back', async () => {
    const set = await orchard(['file', 'rules', 'trail', '--read', 'everyone', '--create', 'signed-in', '--public']);
    expect(set.out).toMatch(/trail\s+TRUE\s+me\('id'\) IS NOT NULL[\s\S]*trail\s+yes/);
    expect((await orchard(['file', 'rules', 'trail/maps'])).out).toMatch(/trail\/maps\s+TRUE[\s\S]*trail\s/);
    expect(await orchard(['file', 'rules', 'trail', '--read', 'sise > 1'])).toMatchObject({
      code: 4,
      err: expect.stringContaining('`size`'),
    });
    expect((await orchard(['file', 'rules', 'trail', '--inherit', '--no-public'])).out).toMatch(/trail\s+ownerId = me\('id'\)/);
    const address = (await orchard(['file', 'share', 'trail/maps/plan.txt', '--count', '1'])).out.trim();
    expect(await (await fetch(address)).text()).toBe('the plan');
    expect((await orchard(['file', 'links'])).out).not.toContain('plan.txt');
    expect(await orchard(['file', 'remove', 'trail/maps/plan.txt', '--yes'])).toMatchObject({
      code: 0,
      err: 'Deleted trail/maps/plan.txt.\n',
    });
    const [id] = /^\S+-\S+/m.exec((await orchard(['file', 'deleted'])).out) ?? [];
    expect((await orchard(['file', 'restore', id as string])).out).toContain('trail/maps/plan.txt');
    expect((await orchard(['file', 'use'])).out).toMatch(/files\s+4/);
    expect((await orchard(['file', 'mv', 'trail', 'paths'])).err).toBe('Moved trail to paths.\n');
    expect(await orchard(['file', 'rmdir', 'paths'])).toMatchObject({ code: 4, err: expect.stringContaining('holds 3 files') });
    expect((await orchard(['file', 'rmdir', 'paths', '--files'])).err).toBe('Deleted paths.\n');
  });
});

describe('orchard site', () => {
  it('pushes a folder, goes back, and says what happened on its pages', async () => {
    local('front/index.html', '<title>First</title>');
    local('front/assets/app.js', 'go();');
    const push = (...more: string[]) => orchard(['site', 'push', 'warden', join(home, 'front'), ...more]);
    expect(await push()).toMatchObject({ code: 4, err: expect.stringContaining('There is no client of kind web') });
    await test.owner.call(operations.clients.create, { params: app.dev.params, body: { name: 'warden-web', kind: 'web' } });
    const first = await push();
    expect(first).toMatchObject({
      code: 0,
      err: 'Pushed version 1 of warden: 2 files, 25 B.\n',
      out: expect.stringContaining('http://warden.dev.'),
    });
    local('front/index.html', '<title>Second</title>');
    expect((await push('--no-use', '--note', 'Redrawn')).out).toContain('http://warden--2.dev.');
    expect((await orchard(['site', 'versions', 'warden'])).out).toMatch(/2\s+2\s+26 B\s+Redrawn[\s\S]*1\s+yes/);
    expect((await orchard(['site', 'use', 'warden', '2'])).err).toContain('Version 2 of warden is in force');
    expect((await orchard(['site', 'use', 'warden', '1'])).err).toContain('Version 1 of warden is in force');
    expect(await orchard(['site', 'push', 'warden', join(home, 'nowhere')])).toMatchObject({ code: 2 });
    expect((await orchard(['site', 'list'])).out).toMatch(/warden\s+http:\/\/warden\.dev\./);
    expect((await orchard(['site', 'remove', 'warden', '--yes'])).code).toBe(0);
  });
});
