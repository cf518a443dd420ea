/** Small web fronts at addresses of their own: pushed, switched, previewed, served, and watched. */
import { request as httpRequest } from 'node:http';
import { brotliDecompressSync, gunzipSync } from 'node:zlib';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import yazl from 'yazl';
import { buffer } from 'node:stream/consumers';
import { eventually, makeApp, startTestService, type TestApp, type TestService } from './support.js';

const own = operations.sites;
let test: TestService;
let app: TestApp;
let webKey: string;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'hiker');
  const web = await test.owner.call(operations.clients.create, {
    params: app.dev.params,
    body: { name: 'warden-web', kind: 'web', origins: ['https://elsewhere.example'] },
  });
  webKey = web.keys[0]?.key as string;
});
afterAll(() => test.stop());

type Files = Record<string, string | Buffer>;
async function zipOf(files: Files): Promise<Buffer> {
  const zip = new yazl.ZipFile();
  for (const [path, content] of Object.entries(files)) zip.addBuffer(Buffer.from(content), path);
  zip.end();
  return buffer(zip.outputStream as never);
}
const push = async (site: string, body: Files | Buffer, query: { note?: string; use?: 'true' | 'false' } = {}) =>
  (
    await test.owner.open(own.push, {
      params: { ...app.dev.params, site },
      query,
      headers: { 'content-type': 'application/zip' },
      raw: (Buffer.isBuffer(body) ? body : await zipOf(body)) as never,
    })
  ).json() as Promise<{ version: number; address: string; files: number }>;
const at = (site: string) => ({ ...app.dev.params, site });
const make = (site: string, body: object = {}) => test.owner.call(own.put, { params: at(site), body: { client: 'warden-web', ...body } });

type Page = { status: number; headers: Record<string, string | string[] | undefined>; bytes: Buffer; text: string };
/** As a browser asks: by the host's name, which leads to this machine. */
function open(host: string, path: string, headers: Record<string, string> = {}, method = 'GET', body?: string): Promise<Page> {
  const { port } = new URL(test.address);
  return new Promise((resolve, reject) => {
    const call = httpRequest(
      { host: '127.0.0.1', port, path, method, headers: { host: `${host}:${port}`, accept: 'text/html', ...headers } },
      (response) => {
        buffer(response).then(
          (bytes) => resolve({ status: response.statusCode as number, headers: response.headers, bytes, text: bytes.toString() }),
          reject,
        );
      },
    );
    call.on('error', reject);
    call.end(body);
  });
}
const HOST = 'warden.dev.hiker.localhost';
const FRONT: Files = {
  'index.html': '<!doctype html><title>Warden</title><script src="/assets/app-4f9a2b7c.js"></script>',
  'assets/app-4f9a2b7c.js': `console.log('${'warden '.repeat(400)}');`,
  'docs/index.html': '<h1>Docs</h1>',
  'about.html': '<h1>About</h1>',
  '404.html': '<h1>Lost</h1>',
};

describe('a site', () => {
  it('is at a host of its own as soon as it is pushed, apart from console and API', async () => {
    const site = await make('warden');
    expect(site).toMatchObject({ version: 0, address: `http://${HOST}:${new URL(test.address).port}` });
    expect((await open(HOST, '/')).status).toBe(404);
    expect(await push('warden', FRONT, { note: 'First' })).toMatchObject({ version: 1, files: 5 });
    const page = await open(HOST, '/');
    expect([page.status, page.headers['content-type'], page.headers['cache-control']]).toEqual([
      200,
      'text/html; charset=utf-8',
      'no-cache',
    ]);
    expect(page.text).toContain('<title>Warden</title>');
    for (const path of ['/app/v1/data/huts', '/manage/v1/session', '/sign-in', '/healthz'])
      expect((await open(HOST, path)).text).toBe('<h1>Lost</h1>');
    expect((await open(HOST, '/', {}, 'POST')).status).toBe(405);
    expect((await open('nobody.dev.hiker.localhost', '/')).text).toBe('There is no site at this address.');
  });

  it('answers pages with and without their endings, and what is missing with the page for that', async () => {
    expect([(await open(HOST, '/docs')).status, (await open(HOST, '/docs')).headers.location]).toEqual([308, '/docs/']);
    expect((await open(HOST, '/docs/')).text).toBe('<h1>Docs</h1>');
    expect((await open(HOST, '/about')).text).toBe('<h1>About</h1>');
    expect([(await open(HOST, '/none')).status, (await open(HOST, '/none')).text]).toEqual([404, '<h1>Lost</h1>']);
    expect((await open(HOST, '/..%2f..%2fetc/passwd')).status).toBe(404);
    expect((await open(HOST, '/%E0%A4%A')).status).toBe(404);
  });

  it('sends what can be packed packed, with tags, and what has a hash in its name for ever', async () => {
    const plain = await open(HOST, '/assets/app-4f9a2b7c.js');
    const br = await open(HOST, '/assets/app-4f9a2b7c.js', { 'accept-encoding': 'gzip, br' });
    const gzip = await open(HOST, '/assets/app-4f9a2b7c.js', { 'accept-encoding': 'gzip, br;q=0' });
    expect([plain.headers['content-encoding'], br.headers['content-encoding'], gzip.headers['content-encoding']]).toEqual([
      undefined,
      'br',
      'gzip',
    ]);
    expect([brotliDecompressSync(br.bytes).equals(plain.bytes), gunzipSync(gzip.bytes).equals(plain.bytes)]).toEqual([true, true]);
    expect([plain.headers['cache-control'], plain.headers.vary]).toEqual(['public, max-age=31536000, immutable', 'Accept-Encoding']);
    const known = await open(HOST, '/assets/app-4f9a2b7c.js', { 'if-none-match': plain.headers.etag as string });
    expect([known.status, known.bytes.length]).toEqual([304, 0]);
  });

  it('switches at once, also back, and shows a version before it is in force', async () => {
    const second = await push('warden', { 'index.html': '<title>Second</title>' }, { use: 'false' });
    expect((await open(HOST, '/')).text).toContain('Warden');
    const preview = await open(new URL(second.address).hostname, '/');
    expect([preview.text, preview.headers['x-robots-tag']]).toEqual(['<title>Second</title>', 'noindex']);
    await test.owner.call(own.use, { params: { ...at('warden'), version: 2 } });
    expect((await open(HOST, '/')).text).toBe('<title>Second</title>');
    const { changes } = await test.owner.call(own.version, { params: { ...at('warden'), version: 2 }, query: {} });
    expect(changes).toContainEqual({ path: 'about.html', change: 'removed', before: 14, after: null });
    expect(changes.find(({ path }) => path === 'index.html')?.change).toBe('changed');
    await test.owner.call(own.use, { params: { ...at('warden'), version: 1 } });
    expect((await open(HOST, '/about')).text).toBe('<h1>About</h1>');
    await expect(test.owner.call(own.use, { params: { ...at('warden'), version: 9 } })).rejects.toMatchObject({ problem: 'not-found' });
  });

  it('goes by its fallback, redirects and headers', async () => {
    await make('warden', {
      fallback: 'index.html',
      redirects: [
        { from: '/old/*', to: '/docs/*', status: 301 },
        { from: '/chat', to: 'https://chat.quillfell.example/', status: 302 },
      ],
      headers: [
        { path: '/*', name: 'Content-Security-Policy', value: "default-src 'self'" },
        { path: '/docs/*', name: 'Cache-Control', value: 'no-store' },
      ],
    });
    expect((await open(HOST, '/huts/fellgate')).text).toContain('<title>Warden</title>');
    expect((await open(HOST, '/missing.png')).status).toBe(404);
    expect((await open(HOST, '/old/a/b')).headers.location).toBe('/docs/a/b');
    expect((await open(HOST, '/chat')).headers.location).toBe('https://chat.quillfell.example/');
    const docs = await open(HOST, '/docs/');
    expect([docs.headers['cache-control'], docs.headers['content-security-policy']]).toEqual([
      'no-store',
      "default-src 'self'; report-uri /-/reports",
    ]);
  });

  it('may call the API from its address at once, and so may no other one', async () => {
    const from = (host: string) =>
      test.app('GET', '/data/huts', { key: webKey, headers: { origin: `http://${host}:${new URL(test.address).port}` } });
    expect((await from(HOST)).body.type).not.toBe('/docs/problems/origin-blocked');
    expect((await from('other.dev.hiker.localhost')).body.type).toBe('/docs/problems/origin-blocked');
  });

  it('has hosts of the team’s own, each at one site alone', async () => {
    await make('warden', { hosts: ['warden.quillfell.example'] });
    expect((await open('warden.quillfell.example', '/about')).text).toBe('<h1>About</h1>');
    await expect(make('second', { hosts: ['warden.quillfell.example'] })).rejects.toMatchObject({ problem: 'already-exists' });
    await expect(make('third', { client: 'hiker-ios' })).rejects.toMatchObject({
      problem: 'invalid-input',
      message: 'The client hiker-ios is of kind ios.',
    });
  });

  it('is edited file by file, over the version that was read', async () => {
    const read = await test.owner.call(own.readFile, { params: { ...at('warden'), path: 'about.html' } });
    const body = { text: '<h1>About us</h1>', version: read.version };
    const version = await test.owner.call(own.writeFile, { params: { ...at('warden'), path: 'about.html' }, body });
    expect(version).toMatchObject({ files: 5, note: 'Changed about.html' });
    expect((await open(HOST, '/about')).text).toBe('<h1>About us</h1>');
    const stale = test.owner.call(own.writeFile, { params: { ...at('warden'), path: 'about.html' }, body });
    await expect(stale).rejects.toMatchObject({ problem: 'version-conflict' });
  });

  it('is made of a folder of files as well', async () => {
    for (const [path, text] of Object.entries({ 'front/index.html': '<title>From files</title>', 'front/app.js': 'go();' }))
      await fetch(`${test.address}/app/v1/files/${path}`, { method: 'PUT', headers: { 'orchard-key': app.dev.serverKey }, body: text });
    await make('from-files');
    expect(await test.owner.call(own.pushFolder, { params: at('from-files'), body: { folder: 'front' } })).toMatchObject({
      files: 2,
      version: 1,
    });
    expect((await open('from-files.dev.hiker.localhost', '/app.js')).text).toBe('go();');
    const none = test.owner.call(own.pushFolder, { params: at('from-files'), body: { folder: 'nowhere' } });
    await expect(none).rejects.toMatchObject({ problem: 'not-found' });
  });
});

describe('an archive', () => {
  it('may have one folder around everything', async () => {
    await make('around');
    await push('around', { 'dist/index.html': '<title>In</title>', 'dist/a/b.txt': 'b', '__MACOSX/dist/._index.html': 'x' });
    expect((await open('around.dev.hiker.localhost', '/a/b.txt')).text).toBe('b');
  });

  it('is refused when it leads upward, links, unpacks without end, or is none', async () => {
    const upward = await zipOf({ 'aa/evil.html': 'x', 'index.html': 'y' });
    // The name stands in front of the content, and again in the directory at the end.
    for (let i = upward.indexOf('aa/evil.html'); i >= 0; i = upward.indexOf('aa/evil.html')) upward.write('../evil.html', i);
    await expect(push('around', upward)).rejects.toMatchObject({
      problem: 'invalid-input',
      message: expect.stringContaining('../evil.html'),
    });
    const link = new yazl.ZipFile();
    link.addBuffer(Buffer.from('/etc/passwd'), 'index.html', { mode: 0o120777 });
    link.end();
    await expect(push('around', await buffer(link.outputStream as never))).rejects.toMatchObject({
      message: expect.stringContaining('link to another file'),
    });
    const bomb = await zipOf({ 'zeros.bin': Buffer.alloc(3_000_000) });
    // What the directory says of its size, unpacked (ZIP application note, section 4.3.12).
    bomb.writeUInt32LE(2_000_000_000, bomb.indexOf('PK\u0001\u0002') + 24);
    await expect(push('around', bomb)).rejects.toMatchObject({ problem: 'file-too-large' });
    bomb.writeUInt32LE(1_000, bomb.indexOf('PK\u0001\u0002') + 24);
    await expect(push('around', bomb)).rejects.toMatchObject({ problem: 'invalid-input' });
    await expect(push('around', Buffer.from('not a zip'))).rejects.toMatchObject({ problem: 'invalid-input' });
    expect((await open('around.dev.hiker.localhost', '/a/b.txt')).text).toBe('b');
    expect(await test.owner.call(own.versions, { params: at('around') })).toMatchObject({ items: [{ version: 1 }] });
  }, 60_000);
});

describe('what happens on a site', () => {
  it('is counted by page and status', async () => {
    await open(HOST, '/docs/');
    const { items, hours } = await eventually(async () => {
      const loads = await test.owner.call(own.loads, { params: at('warden'), query: {} });
      return loads.items.some(({ page, status }) => page === '/docs/' && status === 200) && loads;
    });
    expect(items.find(({ page, status }) => page === '/none' && status === 404)?.loads).toBe(2);
    expect(hours.at(-1)?.failed).toBeGreaterThan(0);
    // What a page brings along is no load of a page.
    expect(items.some(({ page }) => page.endsWith('.js') && !page.includes('4f9a2b7c'))).toBe(false);
  });

  it('is reported by browsers, and told with what to do', async () => {
    const report = [
      {
        type: 'csp-violation',
        url: 'https://warden.quillfell.example/?token=secret',
        body: { effectiveDirective: 'img-src', blockedURL: 'https://tiles.quillfell.example/9/2.png' },
      },
    ];
    const sent = await open(HOST, '/-/reports', { 'content-type': 'application/reports+json' }, 'POST', JSON.stringify(report));
    expect(sent.status).toBe(204);
    await open(
      HOST,
      '/-/reports',
      { 'content-type': 'application/csp-report' },
      'POST',
      JSON.stringify({
        'csp-report': { 'violated-directive': 'script-src', 'blocked-uri': 'inline', 'document-uri': 'https://warden.quillfell.example/' },
      }),
    );
    expect((await open(HOST, '/-/reports', { 'content-type': 'application/json' }, 'POST', '{')).status).toBe(400);
    const { items } = await test.owner.call(own.reports, { params: at('warden') });
    expect(items.map(({ blocked, page }) => [blocked, page]).sort()).toEqual([
      ['https://tiles.quillfell.example/9/2.png', 'https://warden.quillfell.example/'],
      ['inline', 'https://warden.quillfell.example/'],
    ]);
    expect(items.find(({ directive }) => directive === 'img-src')?.advice).toContain('add it to img-src of Content-Security-Policy');
  });

  it('ends with the site', async () => {
    await test.owner.call(own.remove, { params: at('warden') });
    expect((await open(HOST, '/')).text).toBe('There is no site at this address.');
    // The host leads nowhere of its own any more.
    expect((await open('warden.quillfell.example', '/about')).text).not.toContain('About us');
  });
});
