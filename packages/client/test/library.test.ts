/** The library as apps get it: up to date with the contract, small, served with hashes, and as a package. */
import { execFile, execFileSync, spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { mkdirSync, mkdtempSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { operations } from '@orchard/contract';
import type { Browser } from 'playwright-core';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { openBrowser } from '../../console/test/browser.js';
import { makeApp, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
// @ts-expect-error a script without types
import { text } from '../calls.mjs';

type Files = { version: string; files: Record<string, { bytes: number; gzip: number; integrity: string }> };
const folder = join(import.meta.dirname, '..');
let test: TestService;
let app: TestApp;
let browser: Browser;
let files: Files;
beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  browser = await openBrowser();
  files = (await (await fetch(`${test.address}/client/files.json`)).json()) as Files;
});
afterAll(async () => {
  await browser.close();
  await test.stop();
});

describe('the client library', () => {
  it('knows every call that apps can make', () => {
    expect(readFileSync(join(folder, 'src/calls.ts'), 'utf8'), 'run node packages/client/calls.mjs').toBe(text);
  });

  it('is at most 15 kB at the core, and 45 kB with offline', () => {
    const size = (name: string) => files.files[name]?.gzip as number;
    expect(size('orchard.min.js')).toBeLessThanOrEqual(15_000);
    expect(size('orchard.min.js') + size('orchard-offline.min.js')).toBeLessThanOrEqual(45_000);
  });

  it('is served with the hash that a page demands, at an address of its version that never changes', async () => {
    for (const [name, { integrity, bytes }] of Object.entries(files.files)) {
      const reply = await fetch(`${test.address}/client/${files.version}/${name}`);
      const content = Buffer.from(await reply.arrayBuffer());
      expect([content.length, `sha384-${createHash('sha384').update(content).digest('base64')}`]).toEqual([bytes, integrity]);
      expect(reply.headers.get('cache-control')).toContain('immutable');
      expect(reply.headers.get('access-control-allow-origin')).toBe('*');
    }
    expect((await fetch(`${test.address}/client/orchard.js`)).headers.get('cache-control')).not.toContain('immutable');
    const other = await fetch(`${test.address}/client/9.9.9/orchard.js`);
    expect([other.status, await other.text()]).toEqual([404, expect.stringContaining(`/client/${files.version}/orchard.js`)]);
    expect((await fetch(`${test.address}/client/orchard.js.map`)).status).toBe(200);
  });

  it('runs from a script tag with its hash, and says which app it reached', async () => {
    const { params } = app.dev;
    const script = `<script src="${test.address}/client/${files.version}/orchard.script.js" integrity="${files.files['orchard.script.js']?.integrity}" crossorigin></script>`;
    const site = createServer((_request, response) => void response.setHeader('content-type', 'text/html').end(script)).listen(
      0,
      '127.0.0.1',
    );
    await once(site, 'listening');
    const origin = `http://localhost:${(site.address() as AddressInfo).port}`;
    const client = await test.owner.call(operations.clients.create, { params, body: { name: 'web', kind: 'web', origins: [origin] } });
    const page = await browser.newPage();
    const said: string[] = [];
    page.on('console', (message) => said.push(message.text()));
    await page.goto(origin);
    const connect = (key: string) =>
      page.evaluate(
        ([address, clientKey]) =>
          void (globalThis as never as { VividOrchard: { connect: (profile: object) => unknown } }).VividOrchard.connect({
            address,
            clientKey,
          }),
        [test.address, key],
      );
    await connect(client.keys[0]?.key as string);
    await expect.poll(() => said.join('\n')).toContain('connected to quillfell-hiker/dev as web');
    await test.owner.call(operations.clients.patch, { params: { ...params, client: 'web' }, body: { origins: [] } });
    await page.reload();
    await connect(client.keys[0]?.key as string);
    await expect.poll(() => said.join('\n')).toContain(`The origin ${origin} is not allowed for client \`web\` of quillfell-hiker/dev`);
    await page.close();
    site.close();
  });

  it('is a package that runs and compiles where nothing else of ours is', async () => {
    const program = mkdtempSync(join(tmpdir(), 'orchard-package-'));
    for (const name of ['client', 'react']) {
      const reply = await fetch(`${test.address}/client/orchard-${name}.tgz`);
      const into = join(program, 'node_modules/@orchard', name);
      mkdirSync(into, { recursive: true });
      execFileSync('tar', ['xz', '--strip-components=1', '-C', into], { input: Buffer.from(await reply.arrayBuffer()) });
    }
    const modules = join(folder, '../../node_modules');
    // The one dependency of its types, and what the app has itself.
    for (const name of ['zod', 'react', '@types']) symlinkSync(join(modules, name), join(program, 'node_modules', name));
    writeFileSync(join(program, 'package.json'), JSON.stringify({ type: 'module' }));
    const source = (read: string) => `
      import { connect } from '@orchard/client';
      import { fileStorage } from '@orchard/client/node';
      import { useRecords } from '@orchard/react';
      export const huts = () => useRecords<{ name: string }>('huts').items.map((hut) => hut.name.length);
      const orchard = connect<{ huts: { name: string } }>({
        address: '${test.address}', clientKey: '${app.dev.clientKey}', introduce: false, storage: fileStorage('${program}/kept.json'),
      });
      const reached = await orchard.connection();
      ${read}`;
    writeFileSync(join(program, 'right.ts'), source('const app: string = reached.app; console.log(app);'));
    writeFileSync(join(program, 'wrong.ts'), source('export const app: number = reached.app;'));
    writeFileSync(
      join(program, 'run.mjs'),
      source('console.log(reached.app);')
        .replace(/^.*(useRecords).*$/gm, '')
        .replace(/<\{.*\}>/, ''),
    );
    const tsc = (file: string) =>
      spawnSync(
        join(modules, '.bin/tsc'),
        [
          '--noEmit',
          '--strict',
          '--module',
          'nodenext',
          '--target',
          'es2022',
          '--lib',
          'es2023,dom',
          '--types',
          'node',
          '--jsx',
          'react-jsx',
          file,
        ],
        { cwd: program, encoding: 'utf8' },
      ).stdout;
    expect(tsc('right.ts')).toBe('');
    expect(tsc('wrong.ts')).toContain("Type 'string' is not assignable to type 'number'");
    expect((await promisify(execFile)(process.execPath, ['run.mjs'], { cwd: program })).stdout).toBe('quillfell-hiker\n');
  });
});
