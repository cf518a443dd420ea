import { createHash, randomBytes } from 'node:crypto';
import { writeFileSync } from 'node:fs';
import { request as httpRequest } from 'node:http';
import { operations } from '@orchard/contract';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { eventually, makeApp, signUp, startTestService, tampered, type TestApp, type TestService } from './support.js';

let test: TestService;
let app: TestApp;
let runa: { token: string; id: string };
let odd: { token: string; id: string };
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'hiker');
  runa = await signUp(test, app.dev.clientKey, 'runa');
  odd = await signUp(test, app.dev.clientKey, 'odd');
});
afterAll(() => test.stop());

type Sent = { key?: string | null; token?: string; body?: Buffer | string | FormData; headers?: Record<string, string> };
// biome-ignore lint/suspicious/noExplicitAny: a body of any call
type Got = { status: number; headers: Headers; bytes: Buffer; json: any };
const sha256 = (content: Buffer | string) => createHash('sha256').update(content).digest('hex');
const digestHeader = (content: Buffer | string) => `sha-256=:${createHash('sha256').update(content).digest('base64')}:`;

/** @param path below the app's API, or a whole address */
async function call(method: string, path: string, { key = app.dev.serverKey, token, body, headers = {} }: Sent = {}): Promise<Got> {
  const response = await fetch(path.startsWith('http') ? path : `${test.address}/app/v1${path}`, {
    method,
    redirect: 'manual',
    headers: { ...(key ? { 'Orchard-Key': key } : {}), ...(token ? { Authorization: `Bearer ${token}` } : {}), ...headers },
    ...(body === undefined ? {} : { body: body as never }),
  });
  const bytes = Buffer.from(await response.arrayBuffer());
  const isJson = response.headers.get('content-type')?.includes('json');
  return {
    status: response.status,
    headers: response.headers,
    bytes,
    json: isJson && bytes.length > 0 ? JSON.parse(bytes.toString()) : null,
  };
}
const JSON_TYPE = { 'Content-Type': 'application/json' };
const send = (method: string, path: string, body: object, more: Sent = {}) =>
  call(method, path, { ...more, body: JSON.stringify(body), headers: { ...JSON_TYPE, ...more.headers } });
const as = (who: { token: string }) => ({ key: app.dev.clientKey, token: who.token });
const problemOf = ({ status, json }: Got) => [status, json?.type?.split('/').at(-1)];
const picture = (width: number, height: number) =>
  sharp({ create: { width, height, channels: 3, background: '#1f7a6d' } })
    .withExif({ IFD0: { Copyright: 'Quillfell' }, IFD3: { GPSLatitude: '61/1 21/1 0/1', GPSLatitudeRef: 'N' } })
    .jpeg()
    .toBuffer();

describe('a file', () => {
  it('is stored, read, described, changed, moved and deleted', async () => {
    const stored = await call('PUT', '/files/notes/2026/storm.txt', { body: 'A storm comes.', headers: { 'Content-Type': 'image/png' } });
    expect([stored.status, stored.headers.get('etag')]).toEqual([201, '"1"']);
    expect(stored.json).toMatchObject({
      path: 'notes/2026/storm.txt',
      folder: 'notes/2026',
      name: 'storm.txt',
      size: 14,
      type: 'text/plain',
      digest: sha256('A storm comes.'),
      edition: 1,
    });
    const read = await call('GET', '/files/notes/2026/storm.txt');
    expect([read.status, read.bytes.toString(), read.headers.get('repr-digest')]).toEqual([
      200,
      'A storm comes.',
      digestHeader('A storm comes.'),
    ]);
    const changed = await send('PATCH', '/files/notes/2026/storm.txt', { caption: 'By Odd', path: 'notes/kept/Storm 1.txt' });
    expect([changed.status, changed.json.path, changed.json.caption, changed.json.version]).toEqual([
      200,
      'notes/kept/Storm 1.txt',
      'By Odd',
      2,
    ]);
    expect((await call('GET', '/files/notes/2026/storm.txt')).status).toBe(404);
    const described = await call('GET', `/file-facts/@${stored.json.id}`);
    expect(described.json).toEqual(changed.json);
    expect((await call('DELETE', '/files/notes/kept/Storm%201.txt')).status).toBe(204);
    expect((await call('GET', `/files/@${stored.json.id}`)).status).toBe(404);
  });

  it('has editions, each with an address that never changes', async () => {
    await call('PUT', '/files/map.svg', { body: '<svg xmlns="http://www.w3.org/2000/svg"><g/></svg>' });
    const again = await call('PUT', '/files/map.svg', { body: '<svg xmlns="http://www.w3.org/2000/svg"/>' });
    expect([again.status, again.json.edition, again.json.type]).toEqual([200, 2, 'image/svg+xml']);
    const same = await call('PUT', '/files/map.svg', { body: '<svg xmlns="http://www.w3.org/2000/svg"/>' });
    expect([same.status, same.json.version]).toEqual([200, again.json.version]);
    const first = await call('GET', '/files/map.svg?edition=1');
    expect(first.bytes.toString()).toContain('<g/>');
    expect(first.headers.get('cache-control')).toBe('private, max-age=31536000, immutable');
    expect((await call('GET', '/file-editions/map.svg')).json.items.map(({ edition }: { edition: number }) => edition)).toEqual([2, 1]);
    expect(problemOf(await call('GET', '/files/map.svg?edition=7'))).toEqual([404, 'not-found']);
  });

  it('never runs on our origin, whatever it holds', async () => {
    for (const [name, content, type] of [
      ['page.jpg', '<!DOCTYPE html><script>alert(1)</script>', 'text/html'],
      ['drawing.png', '<?xml version="1.0"?><svg xmlns="http://www.w3.org/2000/svg" onload="alert(1)"/>', 'image/svg+xml'],
      ['noise.txt', Buffer.from([0, 1, 2, 255, 254]), 'application/octet-stream'],
    ] as const) {
      expect((await call('PUT', `/files/hostile/${name}`, { body: content as string })).json.type).toBe(type);
      const { headers } = await call('GET', `/files/hostile/${name}`);
      expect(headers.get('content-disposition')).toBe(`attachment; filename=${name}`);
      expect(headers.get('content-security-policy')).toContain('sandbox');
      expect(headers.get('x-content-type-options')).toBe('nosniff');
    }
  });

  it('is written only over the version that was read, and by one of two writers', async () => {
    const first = await call('PUT', '/files/lock.txt', { body: 'one', headers: { 'If-None-Match': '*' } });
    expect(first.status).toBe(201);
    expect(problemOf(await call('PUT', '/files/lock.txt', { body: 'two', headers: { 'If-None-Match': '*' } }))).toEqual([
      412,
      'version-conflict',
    ]);
    expect(problemOf(await call('PUT', '/files/lock.txt', { body: 'two', headers: { 'If-Match': '"9"' } }))).toEqual([
      412,
      'version-conflict',
    ]);
    const both = await Promise.all(['a', 'b', 'c'].map((body) => call('PUT', '/files/race.txt', { body: body.repeat(2000) })));
    expect(both.map(({ status }) => status).sort()).toEqual([200, 200, 201]);
    const { json } = await call('GET', '/file-facts/race.txt');
    expect([json.edition, json.size]).toEqual([3, 2000]);
  });

  it('is refused when its name could not be saved everywhere, and nothing is stored', async () => {
    for (const name of [
      'a/.%2e/b'.replace('.%2e', '..%20'),
      'x%00y',
      'photo%E2%80%AEgpj.exe',
      'a//b',
      'con.txt',
      'end.',
      'back%5Cslash',
      '%40id',
      `${'ø'.repeat(128)}`,
    ]) {
      const answer = await call('PUT', `/files/${name}`, { body: 'x' });
      expect([name, ...problemOf(answer)]).toEqual([name, 422, 'invalid-input']);
      expect(answer.json.fields[0].path).toBe('path.path');
    }
    expect((await call('PUT', `/files/long/${'a'.repeat(255)}`, { body: 'x' })).status).toBe(201);
  });

  it('is checked against its digest, and its size', async () => {
    const wrong = await call('PUT', '/files/checked.bin', { body: 'abc', headers: { 'Content-Digest': digestHeader('abd') } });
    expect(problemOf(wrong)).toEqual([422, 'digest-mismatch']);
    expect((await call('PUT', '/files/checked.bin', { body: 'abc', headers: { 'Content-Digest': digestHeader('abc') } })).status).toBe(201);
    await test.owner.call(operations.managedFiles.changeSettings, { params: app.dev.params, body: { fileBytes: 1000 } });
    expect(problemOf(await call('PUT', '/files/checked.bin', { body: randomBytes(1001) }))).toEqual([413, 'file-too-large']);
    await test.owner.call(operations.managedFiles.changeSettings, { params: app.dev.params, body: { fileBytes: 5_000_000_000 } });
    expect((await call('GET', '/files/checked.bin')).bytes.toString()).toBe('abc');
  });

  it('is half-visible to nobody when its upload breaks off', async () => {
    const url = new URL(`${test.address}/app/v1/files/broken.bin`);
    await new Promise<void>((resolve) => {
      const upload = httpRequest(url, { method: 'PUT', headers: { 'Orchard-Key': app.dev.serverKey, 'Content-Length': 100_000 } });
      upload.on('error', () => resolve());
      upload.write(randomBytes(50_000), () => setTimeout(() => upload.destroy(), 100));
    });
    expect((await call('GET', '/files/broken.bin')).status).toBe(404);
  });

  it('is refused before its content is sent where the disk has no room for it', async () => {
    const settings = (fileBytes: number) =>
      test.owner.call(operations.managedFiles.changeSettings, { params: app.dev.params, body: { fileBytes } });
    const announced = 10 ** 15;
    await settings(announced);
    const answer = await new Promise<{ status: number; text: string }>((resolve, reject) => {
      const upload = httpRequest(`${test.address}/app/v1/files/vast.bin`, {
        method: 'PUT',
        headers: { 'Orchard-Key': app.dev.serverKey, 'Content-Length': announced },
      });
      upload.on('error', reject).on('response', async (response) => {
        resolve({ status: response.statusCode as number, text: (await response.toArray()).join('') });
        upload.destroy();
      });
      upload.flushHeaders();
    });
    expect([answer.status, answer.text]).toEqual([507, expect.stringContaining('/docs/problems/storage-full')]);
    await settings(5_000_000_000);
    expect((await call('GET', '/files/vast.bin')).status).toBe(404);
  });

  it('takes no more than its owner and the environment may take together', async () => {
    await test.owner.call(operations.managedFiles.changeFolderSettings, {
      params: app.live.params,
      query: { path: '' },
      body: { rules: { create: "me('id') IS NOT NULL" } },
    });
    await test.owner.call(operations.managedFiles.changeSettings, { params: app.live.params, body: { userBytes: 3000, totalBytes: 5000 } });
    const eva = await signUp(test, app.live.clientKey, 'eva');
    const own = { key: app.live.clientKey, token: eva.token };
    expect((await call('PUT', '/files/one.bin', { ...own, body: randomBytes(2000) })).status).toBe(201);
    expect(problemOf(await call('PUT', '/files/two.bin', { ...own, body: randomBytes(1500) }))).toEqual([413, 'quota-exceeded']);
    expect(problemOf(await call('PUT', '/files/three.bin', { key: app.live.serverKey, body: randomBytes(3500) }))).toEqual([
      413,
      'quota-exceeded',
    ]);
    expect((await call('GET', '/folders', { key: app.live.serverKey })).json.items).toHaveLength(1);
  });
});

describe('the rules of folders', () => {
  it('decide who reads and writes, those of the innermost folder first', async () => {
    const settings = { params: app.dev.params };
    await test.owner.call(operations.managedFiles.changeFolderSettings, {
      ...settings,
      query: { path: 'shared' },
      body: { rules: { read: 'TRUE', create: "me('id') IS NOT NULL", update: "ownerId = me('id')", delete: 'FALSE' } },
    });
    await test.owner.call(operations.managedFiles.changeFolderSettings, {
      ...settings,
      query: { path: 'shared/closed' },
      body: { rules: { read: "ownerId = me('id')" } },
    });
    expect((await call('PUT', '/files/shared/a.txt', { ...as(runa), body: 'a' })).json.ownerId).toBe(runa.id);
    expect((await call('PUT', '/files/shared/closed/b.txt', { ...as(runa), body: 'b' })).status).toBe(201);
    const refused = await call('PUT', '/files/shared/a.txt', { ...as(odd), body: 'mine' });
    expect(problemOf(refused)).toEqual([403, 'access-refused']);
    expect(refused.json.detail).toBe(
      "The update rule of `files in shared`, ownerId = me('id'), refuses this: the record belongs to somebody else.",
    );
    expect((await call('GET', '/files/shared/a.txt', { key: app.dev.clientKey })).status).toBe(200);
    expect(problemOf(await call('GET', '/files/shared/closed/b.txt', as(odd)))).toEqual([403, 'access-refused']);
    expect(problemOf(await call('DELETE', '/files/shared/a.txt', as(runa)))).toEqual([403, 'access-refused']);
    const seen = async (who: Sent) =>
      (await call('GET', '/folders/shared?deep=true&sort=path', who)).json.items.map(({ path }: { path: string }) => path);
    expect(await seen(as(runa))).toEqual(['shared/a.txt', 'shared/closed/b.txt']);
    expect(await seen(as(odd))).toEqual(['shared/a.txt']);
    // A file goes by the rules of where it is moved to as well.
    expect((await send('PATCH', '/files/shared/a.txt', { path: 'shared/closed/a.txt' }, as(runa))).status).toBe(200);
    expect(await seen(as(odd))).toEqual([]);
    const all = await test.owner.call(operations.managedFiles.folderSettings, { ...settings, query: { path: 'shared/closed/deep' } });
    expect(all.items[0]).toMatchObject({ rules: null, inForce: { from: 'shared/closed', create: "me('id') IS NOT NULL" } });
    await test.owner.call(operations.managedFiles.changeFolderSettings, {
      ...settings,
      query: { path: 'shared/closed' },
      body: { rules: null },
    });
    expect(await seen(as(odd))).toEqual(['shared/closed/a.txt', 'shared/closed/b.txt']);
  });

  it('are refused when they name what files do not have', async () => {
    const change = test.owner.call(operations.managedFiles.changeFolderSettings, {
      params: app.dev.params,
      query: { path: 'shared' },
      body: { rules: { read: 'sise > 3' } },
    });
    await expect(change).rejects.toMatchObject({ problem: 'malformed-filter', message: expect.stringContaining('did you mean `size`') });
  });

  it('make folders public, with addresses that need no key', async () => {
    const open = `${test.address}/files/hiker/dev/public`;
    await call('PUT', '/files/web/logo.txt', { body: 'Quillfell' });
    expect((await call('GET', `${open}/web/logo.txt`, { key: null })).status).toBe(404);
    await test.owner.call(operations.managedFiles.changeFolderSettings, {
      params: app.dev.params,
      query: { path: 'web' },
      body: { public: true },
    });
    const shown = await call('GET', `${open}/web/logo.txt`, { key: null });
    expect([shown.status, shown.bytes.toString(), shown.headers.get('cache-control')]).toEqual([
      200,
      'Quillfell',
      'public, max-age=60, stale-while-revalidate=600',
    ]);
    const known = await call('GET', `${open}/web/logo.txt`, {
      key: null,
      headers: { 'If-None-Match': shown.headers.get('etag') as string },
    });
    expect([known.status, known.bytes.length]).toEqual([304, 0]);
  });
});

describe('folders', () => {
  it('list files by filters over facts and properties, and the folders in them', async () => {
    for (const [name, grade] of [
      ['a', 1],
      ['b', 2],
      ['c', 3],
    ] as const)
      await call('PUT', `/files/climbs/north/${name}.txt?properties=${encodeURIComponent(JSON.stringify({ grade }))}`, {
        body: name.repeat(grade),
      });
    await call('PUT', '/files/climbs/plan.txt', { body: 'plan' });
    const top = await call('GET', '/folders/climbs?count=true');
    expect(top.json.items.map(({ name }: { name: string }) => name)).toEqual(['plan.txt']);
    expect(top.json.folders).toEqual([{ path: 'climbs/north', name: 'north', files: 3, bytes: 6, public: false }]);
    const filter = encodeURIComponent("grade >= 2 AND size < 3 AND type = 'text/plain'");
    const found = await call('GET', `/folders/climbs?deep=true&filter=${filter}&fields=path,grade`);
    expect(found.json.items).toEqual([{ id: expect.any(String), version: 1, path: 'climbs/north/b.txt', grade: 2 }]);
    expect(problemOf(await call('GET', '/folders/climbs?filter=sise%3E2'))).toEqual([422, 'malformed-filter']);
    expect(problemOf(await call('GET', '/folders/nowhere'))).toEqual([404, 'not-found']);
  });

  it('are made, moved with all that is in them, and deleted', async () => {
    expect((await call('PUT', '/folders/drafts/new')).status).toBe(201);
    await call('PUT', '/files/drafts/new/x.txt', { body: 'x' });
    await call('PUT', '/files/drafts/new/deep/y.txt', { body: 'y' });
    expect((await send('PATCH', '/folders/drafts/new', { path: 'drafts/old' })).json.path).toBe('drafts/old');
    expect((await call('GET', '/files/drafts/old/deep/y.txt')).bytes.toString()).toBe('y');
    expect((await call('GET', '/folders/drafts')).json.folders.map(({ path }: { path: string }) => path)).toEqual(['drafts/old']);
    expect(problemOf(await send('PATCH', '/folders/drafts', { path: 'drafts/old/in' }))).toEqual([422, 'invalid-input']);
    expect(problemOf(await call('DELETE', '/folders/drafts'))).toEqual([409, 'folder-not-empty']);
    expect((await call('DELETE', '/folders/drafts?files=true')).status).toBe(204);
    expect((await call('GET', '/files/drafts/old/x.txt')).status).toBe(404);
    const { items } = (await call('GET', '/deleted-files?limit=2')).json;
    expect(items.map(({ path }: { path: string }) => path).sort()).toEqual(['drafts/old/deep/y.txt', 'drafts/old/x.txt']);
  });

  it('bring back what was deleted, with its properties and editions', async () => {
    await call('PUT', '/files/gone/one.txt?properties={"grade":4}', { ...as(runa), body: 'first' });
    const { json: file } = await call('PUT', '/files/gone/one.txt', { ...as(runa), body: 'second' });
    await call('DELETE', '/files/gone/one.txt', as(runa));
    expect((await call('GET', '/deleted-files', as(odd))).json.items).toEqual([]);
    const [deleted] = (await call('GET', '/deleted-files', as(runa))).json.items;
    expect(deleted).toMatchObject({ id: file.id, path: 'gone/one.txt', deletedBy: { kind: 'user' } });
    expect((await send('POST', `/deleted-files/${file.id}/restoration`, {}, as(odd))).status).toBe(404);
    const back = await send('POST', `/deleted-files/${file.id}/restoration`, {}, as(runa));
    expect([back.status, back.json.grade, back.json.edition, back.json.version > file.version]).toEqual([201, 4, 2, true]);
    expect((await call('GET', '/files/gone/one.txt?edition=1', as(runa))).bytes.toString()).toBe('first');
  });

  it('are downloaded as one ZIP', async () => {
    const zip = await call('GET', '/archives/climbs');
    expect([zip.status, zip.headers.get('content-disposition')]).toEqual([200, 'attachment; filename=climbs.zip']);
    const names = [...zip.bytes.toString('latin1').matchAll(/PK\x01\x02.{42}(north\/\w\.txt|plan\.txt)/gs)].map(([, name]) => name);
    expect(names).toEqual(['north/a.txt', 'north/b.txt', 'north/c.txt', 'plan.txt']);
  });

  it('tell live what comes, changes and goes in them', async () => {
    const stopping = new AbortController();
    const response = await fetch(`${test.address}/app/v1/live-files?folder=watched`, {
      headers: { 'Orchard-Key': app.dev.serverKey },
      signal: stopping.signal,
    });
    let text = '';
    void (async () => {
      for await (const chunk of response.body as unknown as AsyncIterable<Buffer>) text += Buffer.from(chunk).toString();
    })().catch(() => undefined);
    await eventually(() => text.includes('event: ready'));
    await call('PUT', '/files/elsewhere.txt', { body: 'x' });
    await call('PUT', '/files/watched/deep/z.txt', { body: 'z' });
    await call('DELETE', '/files/watched/deep/z.txt');
    await eventually(() => text.includes('event: left'));
    stopping.abort();
    expect([...text.matchAll(/^event: (\w+)/gm)].map(([, name]) => name)).toEqual(['ready', 'entered', 'left']);
    expect(text).toContain('"path":"watched/deep/z.txt"');
  });
});

describe('a download', () => {
  const content = randomBytes(300_000);
  beforeAll(() => call('PUT', '/files/big.bin', { body: content }));

  it('is answered in ranges, and refused beyond the end', async () => {
    const part = await call('GET', '/files/big.bin', { headers: { Range: 'bytes=100-199' } });
    expect([part.status, part.headers.get('content-range')]).toEqual([206, 'bytes 100-199/300000']);
    expect(part.bytes.equals(content.subarray(100, 200))).toBe(true);
    const last = await call('GET', '/files/big.bin', { headers: { Range: 'bytes=-5' } });
    expect(last.bytes.equals(content.subarray(-5))).toBe(true);
    const beyond = await call('GET', '/files/big.bin', { headers: { Range: 'bytes=400000-' } });
    expect([...problemOf(beyond), beyond.headers.get('content-range')]).toEqual([416, 'range-not-satisfiable', 'bytes */300000']);
    const many = await call('GET', '/files/big.bin', {
      headers: { Range: `bytes=${Array.from({ length: 500 }, (_, n) => `${n * 10}-${n * 10 + 1}`).join(',')}` },
    });
    expect(many.status).toBe(200);
    const stale = await call('GET', '/files/big.bin', { headers: { Range: 'bytes=0-9', 'If-Range': '"other"' } });
    expect([stale.status, stale.bytes.length]).toEqual([200, 300_000]);
  });

  it('has its headers alone with HEAD', async () => {
    const { status, headers, bytes } = await call('HEAD', '/files/big.bin');
    expect([status, headers.get('content-length'), headers.get('etag'), bytes.length]).toEqual([200, '300000', `"${sha256(content)}"`, 0]);
  });

  it('notices a content that is not as it was stored, tells where, and is healed by storing it again', async () => {
    const { json } = await call('PUT', '/files/rotten.txt', { body: 'sound' });
    const environmentId = await test.service.parts.directory.environment('hiker', 'dev').then(({ id }) => id);
    const place = `${test.config.filesDirectory}/${environmentId}/${json.digest.slice(0, 2)}/${json.digest.slice(2, 4)}/${json.digest}`;
    writeFileSync(place, 'rotten!');
    expect(problemOf(await call('GET', '/files/rotten.txt'))).toEqual([500, 'content-damaged']);
    const use = () => test.owner.call(operations.managedFiles.use, { params: app.dev.params });
    expect((await use()).damaged).toEqual([{ path: 'rotten.txt', digest: json.digest, noticedAt: expect.any(String) }]);
    await call('PUT', '/files/copy-of-rotten.txt', { body: 'sound' });
    expect((await call('GET', '/files/rotten.txt')).bytes.toString()).toBe('sound');
    expect((await use()).damaged).toEqual([]);
  });
});

describe('renditions', () => {
  it('have the size and format asked for, and nothing of the camera', async () => {
    await call('PUT', '/files/photos/col.jpg', { body: await picture(800, 600) });
    const small = await call('GET', '/files/photos/col.jpg?width=200&format=webp');
    const read = await sharp(small.bytes).metadata();
    expect([small.headers.get('content-type'), read.format, read.width, read.height, read.exif]).toEqual([
      'image/webp',
      'webp',
      200,
      150,
      undefined,
    ]);
    const square = await call('GET', '/files/photos/col.jpg?width=100&height=100&fit=cover', { headers: { Accept: 'image/avif,*/*' } });
    expect([square.headers.get('content-type'), square.headers.get('vary'), (await sharp(square.bytes).metadata()).width]).toEqual([
      'image/avif',
      'Accept',
      100,
    ]);
    const again = await call('GET', '/files/photos/col.jpg?width=200&format=webp');
    expect(again.headers.get('etag')).toBe(small.headers.get('etag'));
  });

  it('are not made of what is no picture, nor of one that would fill the memory', async () => {
    expect(problemOf(await call('GET', '/files/big.bin?width=10'))).toEqual([422, 'no-rendition']);
    const bomb = await sharp({ create: { width: 12_000, height: 12_000, channels: 3, background: 'white' }, limitInputPixels: false })
      .png({ compressionLevel: 9 })
      .toBuffer();
    await call('PUT', '/files/photos/bomb.png', { body: bomb });
    const refused = await call('GET', '/files/photos/bomb.png?width=10');
    expect([...problemOf(refused), refused.json.detail]).toEqual([
      422,
      'no-rendition',
      'photos/bomb.png has more than 100,000,000 pixels; no rendition is made of such a picture.',
    ]);
    await call('PUT', '/files/photos/cut.jpg', { body: (await picture(400, 400)).subarray(0, 900) });
    expect(problemOf(await call('GET', '/files/photos/cut.jpg?width=10'))).toEqual([422, 'no-rendition']);
  });
});

describe('a share link', () => {
  const share = (body: object, who: Sent = {}) => send('POST', '/share-links', body, who);

  it('lets whoever has it download, as often as it says, until its end', async () => {
    await call('PUT', '/files/to-share.txt', { ...as(runa), body: 'shared words' });
    const { json: link } = await share({ path: 'to-share.txt', count: 2 }, as(runa));
    const open = () => call('GET', link.address, { key: null });
    const first = await open();
    expect([first.status, first.bytes.toString(), first.headers.get('cache-control')]).toEqual([200, 'shared words', 'no-store']);
    expect((await open()).status).toBe(200);
    expect(problemOf(await open())).toEqual([410, 'share-link-ended']);
    expect(
      problemOf(
        await call(
          'GET',
          tampered(link.address.split('/').at(-1)) && link.address.replace(/[^/]+$/, (secret: string) => tampered(secret)),
          { key: null },
        ),
      ),
    ).toEqual([404, 'not-found']);
    expect(problemOf(await share({ path: 'to-share.txt' }, as(odd)))).toEqual([403, 'access-refused']);
    expect(problemOf(await share({ path: 'to-share.txt', until: '2020-01-01T00:00:00Z' }))).toEqual([422, 'invalid-input']);
  });

  it('asks for its password on a page without script', async () => {
    const { json: link } = await share({ path: 'to-share.txt', password: 'larch' });
    const page = await call('GET', link.address, { key: null });
    expect([
      page.status,
      page.bytes.toString().includes('type="password"'),
      page.headers.get('content-security-policy')?.includes('script'),
    ]).toEqual([200, true, false]);
    const form = (password: string) =>
      call('POST', link.address, {
        key: null,
        body: `password=${password}`,
        headers: { 'Content-Type': 'application/x-www-form-urlencoded' },
      });
    expect((await form('birch')).status).toBe(401);
    expect((await form('larch')).bytes.toString()).toBe('shared words');
    const { items } = await test.owner.call(operations.managedFiles.links, { params: app.dev.params });
    expect(items).toMatchObject([{ path: 'to-share.txt', used: 1, password: true }]);
    await test.owner.call(operations.managedFiles.endLink, { params: { ...app.dev.params, id: link.id } });
    expect((await call('GET', link.address, { key: null })).status).toBe(404);
  });
});

describe('an upload address', () => {
  const ask = (body: object, who: Sent = as(runa)) => send('POST', '/upload-addresses', body, who);

  it('takes one upload by PUT, of the size and type it was made for', async () => {
    const { json } = await ask({ path: 'from-phone/col.jpg', size: 50_000, type: 'image/*', properties: { caption: 'The col' } });
    const to = (body: Buffer | string) => call('PUT', json.address, { key: null, body });
    expect(problemOf(await to('not a picture'))).toEqual([415, 'unsupported-media-type']);
    expect(problemOf(await to(randomBytes(60_000)))).toEqual([413, 'file-too-large']);
    const stored = await to(await picture(60, 40));
    expect([stored.status, stored.json.ownerId, stored.json.caption, stored.json.type]).toEqual([201, runa.id, 'The col', 'image/jpeg']);
    expect(problemOf(await to(await picture(60, 41)))).toEqual([410, 'upload-address-ended']);
    expect(problemOf(await ask({ path: 'from-phone/col.jpg' }))).toEqual([409, 'already-exists']);
  });

  it('takes a form as well', async () => {
    const { json } = await ask({ path: 'from-form.txt' });
    const form = new FormData();
    form.set('note', 'besides');
    form.set('file', new Blob(['by form']), 'any.txt');
    const stored = await call('POST', json.address, { key: null, body: form });
    expect([stored.status, stored.json.path]).toEqual([201, 'from-form.txt']);
    const { json: other } = await ask({ path: 'from-empty-form.txt' });
    const empty = new FormData();
    empty.set('note', 'alone');
    expect(problemOf(await call('POST', other.address, { key: null, body: empty }))).toEqual([422, 'invalid-input']);
  });
});

describe('a resumable upload', () => {
  const TUS = { 'Tus-Resumable': '1.0.0' };
  const OCTETS = { 'Content-Type': 'application/offset+octet-stream' };
  const meta = (path: string) =>
    `path ${Buffer.from(path).toString('base64')},properties ${Buffer.from('{"caption":"In parts"}').toString('base64')}`;
  const begin = (path: string, length: number, who: Sent = as(runa)) =>
    call('POST', '/uploads', { ...who, headers: { ...TUS, 'Upload-Length': String(length), 'Upload-Metadata': meta(path) } });

  it('goes on where it broke, and becomes a file with its last part', async () => {
    const content = randomBytes(200_000);
    const begun = await begin('parts/whole.bin', content.length);
    expect(begun.status).toBe(201);
    const address = begun.headers.get('location') as string;
    const append = (offset: number, body: Buffer, who: Sent = as(runa)) =>
      call('PATCH', address, { ...who, body, headers: { ...TUS, ...OCTETS, 'Upload-Offset': String(offset) } });
    const first = await append(0, content.subarray(0, 70_000));
    expect([first.status, first.headers.get('upload-offset')]).toEqual([204, '70000']);
    expect((await call('GET', '/files/parts/whole.bin', as(runa))).status).toBe(404);
    expect((await append(60_000, content.subarray(60_000))).status).toBe(409);
    expect(problemOf(await append(70_000, content.subarray(70_000), as(odd)))).toEqual([404, 'not-found']);
    const state = await call('HEAD', address, { ...as(runa), headers: TUS });
    expect([state.status, state.headers.get('upload-offset'), state.headers.get('upload-length')]).toEqual([200, '70000', '200000']);
    expect((await append(70_000, content.subarray(70_000))).status).toBe(204);
    const stored = await call('GET', '/files/parts/whole.bin', as(runa));
    expect(stored.bytes.equals(content)).toBe(true);
    expect((await call('GET', '/file-facts/parts/whole.bin', as(runa))).json).toMatchObject({ caption: 'In parts', ownerId: runa.id });
  });

  it('is given up, refused without its header, and has its path checked first', async () => {
    const address = (await begin('parts/given-up.bin', 10)).headers.get('location') as string;
    expect((await call('DELETE', address, { ...as(runa), headers: TUS })).status).toBe(204);
    expect((await call('HEAD', address, { ...as(runa), headers: TUS })).status).toBe(404);
    expect(problemOf(await call('POST', '/uploads', { headers: { 'Upload-Length': '3' } }))).toEqual([412, 'upload-refused']);
    expect(problemOf(await begin('parts/../up', 10))).toEqual([422, 'invalid-input']);
    const options = await call('OPTIONS', '/uploads', { key: null });
    expect([options.status, options.headers.get('tus-extension')]).toEqual([204, 'creation,creation-with-upload,termination,expiration']);
  });
});

describe('a field of type file', () => {
  const fields = (collection: string, list: object[]) =>
    test.owner.call(operations.collections.create, { params: app.dev.params, body: { name: collection, fields: list as never } });
  const stored = async (path: string) => (await call('PUT', `/files/${path}`, { body: path })).json.id as string;

  it('refers to a file, so that filters and answers reach what is known of it', async () => {
    await fields('huts', [
      { name: 'name', type: 'text' },
      { name: 'photo', type: 'file', onDelete: 'clear' },
    ]);
    const photo = await stored('huts/fellgate.txt');
    const hut = await send('POST', '/data/huts', { name: 'Fellgate', photo });
    expect(hut.status).toBe(201);
    const found = await call(
      'GET',
      `/data/huts?filter=${encodeURIComponent("photo.size > 5 AND photo.type = 'text/plain'")}&include=photo`,
    );
    expect(found.json.items[0]).toMatchObject({ name: 'Fellgate', _included: { photo: { path: 'huts/fellgate.txt' } } });
    expect(problemOf(await send('POST', '/data/huts', { name: 'Nowhere', photo: 'no-such-file' }))).toEqual([422, 'invalid-input']);
    expect((await call('DELETE', `/files/@${photo}`)).status).toBe(204);
    expect((await call('GET', `/data/huts/${hut.json.id}`)).json.photo).toBeNull();
  });

  it('keeps its file, or takes it along when the record goes', async () => {
    await fields('hazards', [
      { name: 'proof', type: 'file', withRecord: 'delete' },
      { name: 'map', type: 'file' },
    ]);
    const [proof, map] = [await stored('hazards/proof.txt'), await stored('hazards/map.txt')];
    const { json } = await send('POST', '/data/hazards', { proof, map });
    expect(problemOf(await call('DELETE', `/files/@${map}`))).toEqual([409, 'still-referenced']);
    expect((await call('DELETE', `/data/hazards/${json.id}`)).status).toBe(204);
    expect([(await call('GET', `/files/@${proof}`)).status, (await call('GET', `/files/@${map}`)).status]).toEqual([404, 200]);
    expect((await send('POST', `/deleted-files/${proof}/restoration`, {})).json.path).toBe('hazards/proof.txt');
  });
});

describe('functions of the team', () => {
  const save = (name: string, body: object) =>
    test.owner.call(operations.functions.put, { params: { ...app.dev.params, name }, body: body as never });

  it('check files before anybody can read them, and act on them afterwards', async () => {
    await save('check-routes', {
      kind: 'hook',
      on: { moment: 'before', subject: 'files', actions: ['create', 'update'] },
      source: `const handler: BeforeFile = async ({ record }, { files, refuse }) => {
        if (record!.folder !== 'routes') return;
        const content = await files.text(record!.digest);
        if (!content.includes('<gpx')) refuse('This is no GPX route.', { field: 'path' });
        return { record: { points: content.split('<trkpt').length - 1 } };
      };
      export default handler;`,
    });
    await save('note-routes', {
      kind: 'hook',
      rights: 'own',
      on: { moment: 'after', subject: 'files', actions: ['create'] },
      source: `const handler: AfterFile = async ({ record }, { files }) => {
        if (record!.folder === 'routes') await files.write('notes/' + record!.name + '.txt', 'A route of ' + record!.points + ' points');
      };
      export default handler;`,
    });
    const refused = await call('PUT', '/files/routes/bad.gpx', { body: 'no route' });
    expect([...problemOf(refused), refused.json.detail]).toEqual([422, 'refused-by-function', 'This is no GPX route.']);
    expect((await call('GET', '/files/routes/bad.gpx')).status).toBe(404);
    const good = await call('PUT', '/files/routes/good.gpx', { body: '<gpx><trkpt/><trkpt/></gpx>' });
    expect([good.status, good.json.points]).toEqual([201, 2]);
    const note = await eventually(
      async () =>
        (await call('GET', '/files/notes/good.gpx.txt')).bytes.toString().includes('route') && call('GET', '/files/notes/good.gpx.txt'),
    );
    expect(note.bytes.toString()).toBe('A route of 2 points');
  });
});

it('what belongs to a person is theirs to take along, and an environment leaves no bytes behind', async () => {
  await call('PUT', '/files/own.txt', { ...as(runa), body: 'mine' });
  const mine = await call('GET', '/users/me/export', as(runa));
  expect(mine.json.files.map(({ path }: { path: string }) => path)).toContain('own.txt');
});
