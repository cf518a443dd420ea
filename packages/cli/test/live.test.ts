/** Broadcasts and the servers of calls from the command line. */
import { spawnSync } from 'node:child_process';
import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { freePort } from '../../service/test/ports.js';
import { makeApp, OWNER, startTestService, type TestApp, type TestService } from '../../service/test/support.js';
import { SECRET, startTurnServer } from '../../service/test/turnServer.js';
import { openTerminal } from './terminal.js';

let test: TestService;
let app: TestApp;
let server: Awaited<ReturnType<typeof startTurnServer>>;
const { home, orchard, spawned } = openTerminal();

beforeAll(async () => {
  test = await startTestService(inject('databaseUrl'));
  app = await makeApp(test, 'quillfell-hiker');
  server = await startTurnServer();
  await spawned(['sign-in', test.address, '--email', OWNER.email, '--password-stdin'], `${OWNER.password}\n`);
  await orchard(['use', 'quillfell-hiker/dev']);
});
afterAll(async () => {
  await server?.stop();
  await test.stop();
  rmSync(home, { recursive: true, force: true });
});

describe('orchard turn', () => {
  it('names servers, stores their secret unseen, and tells which of them work', async () => {
    const [good, closed] = [`turn:127.0.0.1:${server.port}`, `turn:127.0.0.1:${await freePort()}?transport=tcp`];
    expect((await orchard(['turn', 'set', '--addresses', `${good},${closed}`, '--minutes', '30'])).out).toContain(good);
    expect((await orchard(['turn', 'try'])).out).toContain('No secret is stored');
    expect(await spawned(['turn', 'secret', '--value-stdin'], `${SECRET}\n`)).toMatchObject({
      code: 0,
      err: expect.stringContaining('orchard turn try'),
    });
    const shown = (await orchard(['turn', 'show', '--json'])).out;
    expect(JSON.parse(shown)).toMatchObject({ addresses: [good, closed], minutes: 30, hasSecret: true });
    expect(shown).not.toContain(SECRET);
    const tried = (await orchard(['turn', 'try', '--json'])).out;
    expect(JSON.parse(tried).items).toMatchObject([
      { address: good, works: true },
      { address: closed, works: false, detail: expect.stringContaining('Nothing listens') },
    ]);
    await orchard(['turn', 'secret', '--forget']);
    expect(JSON.parse((await orchard(['turn', 'show', '--json'])).out)).toMatchObject({ hasSecret: false });
  });
});

describe('orchard broadcast', () => {
  it('sends a film, keeps it, gives an address to watch it at, and forgets it', async () => {
    const film = join(home, 'ridge.ts');
    const picture = ['-f', 'lavfi', '-i', 'testsrc2=size=320x180:rate=10', '-t', '3', '-c:v', 'libx264', '-preset', 'ultrafast'];
    expect(spawnSync('ffmpeg', ['-v', 'error', ...picture, '-g', '10', '-pix_fmt', 'yuv420p', film]).status).toBe(0);
    const sent = await orchard(['broadcast', 'record', 'cameras/ridge', film]);
    expect(sent).toMatchObject({ code: 0, err: expect.stringMatching(/Kept as recordings\/cameras\/ridge\/.*\.mp4/) });
    const { items } = await test.owner.call(operations.managedBroadcasts.list, { params: app.dev.params });
    const id = items[0]?.id as string;
    expect((await orchard(['broadcast', 'list'])).out).toMatch(/cameras\/ridge\s+ended/);
    const { out: address } = await orchard(['broadcast', 'watch', id]);
    expect(await (await fetch(address.trim())).text()).toContain('#EXTM3U');
    expect(await orchard(['broadcast', 'remove', id, '--yes'])).toMatchObject({ code: 0 });
    expect(await orchard(['broadcast', 'show', id])).toMatchObject({ code: 5 });
    expect(await orchard(['broadcast', 'record', 'cameras/ridge', join(home, 'none.ts')])).toMatchObject({ code: 2 });
  });
});
