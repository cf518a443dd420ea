/** Live video and audio from a device: sent by real encoders, packed, watched, recorded and cut. */
import { spawn, spawnSync } from 'node:child_process';
import { once } from 'node:events';
import { readdirSync, readlinkSync, writeFileSync } from 'node:fs';
import { request as httpRequest } from 'node:http';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { buffer } from 'node:stream/consumers';
import { operations } from '@orchard/contract';
import { afterAll, beforeAll, describe, expect, inject, it } from 'vitest';
import { scratchDirectory } from './scratch.js';
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

const as = (who: { token: string }) => ({ key: app.dev.clientKey, token: who.token });
const begin = async (name: string, more: object = {}) =>
  (await test.app('POST', '/broadcasts', { ...as(runa), body: { name, ...more } })).body as {
    id: string;
    ingest: { address: string; pieces: string };
  };
const read = async (id: string) => (await test.app('GET', `/broadcasts/${id}`, as(runa))).body;
const end = (id: string) => test.app('POST', `/broadcasts/${id}/end`, as(runa));
const PICTURE = ['-f', 'lavfi', '-i', 'testsrc2=size=640x360:rate=15'];
const SOUND = ['-f', 'lavfi', '-i', 'sine=frequency=440:sample_rate=48000'];
const VIDEO = ['-c:v', 'libx264', '-preset', 'ultrafast', '-g', '15', '-b:v', '400k', '-pix_fmt', 'yuv420p'];
const encoder = (...args: string[]) => spawn('ffmpeg', ['-v', 'error', ...args, 'pipe:1'], { stdio: ['ignore', 'pipe', 'ignore'] });
const device = (seconds: number, ...form: string[]) =>
  encoder(
    '-re',
    ...PICTURE,
    '-re',
    ...SOUND,
    '-t',
    String(seconds),
    ...VIDEO,
    '-c:a',
    'aac',
    ...(form.length > 0 ? form : ['-f', 'mpegts']),
  );
const sendStream = (address: string, body: Readable, type = 'video/mp2t') =>
  fetch(address, { method: 'POST', headers: { 'content-type': type }, body: Readable.toWeb(body) as never, duplex: 'half' } as RequestInit);
/** Processes that work in a directory; those of other services on this machine do not count. */
const encodersIn = (directory: string): string[] =>
  readdirSync('/proc').filter((pid) => {
    try {
      return /^\d+$/.test(pid) && readlinkSync(`/proc/${pid}/cwd`).startsWith(directory);
    } catch {
      return false;
    }
  });
const problemOf = async (response: Response) => [response.status, ((await response.json()) as { type?: string }).type?.split('/').at(-1)];
const playlist = async (address: string, quality = 0) => (await fetch(address.replace('main.m3u8', `${quality}.m3u8`))).text();
const viewOf = async (id: string, who = odd) => (await test.app('POST', `/broadcasts/${id}/views`, as(who))).body.address as string;

describe('a broadcast', () => {
  it('is sent as one request, watched in two qualities while it goes on, and kept as a file', async () => {
    const { id, ingest } = await begin('cameras/hollow-col', { title: 'The col', record: true });
    expect(await read(id)).toMatchObject({ state: 'waiting', viewers: 0, recording: null });
    const camera = device(7);
    const sending = sendStream(ingest.address, camera.stdout);
    const address = await viewOf(id);
    const main = await eventually(async () => {
      const answer = await fetch(address);
      return answer.status === 200 && answer.text();
    });
    expect(main).toMatch(/RESOLUTION=640x360[\s\S]*0\.m3u8[\s\S]*1\.m3u8/);
    const live = await eventually(async () => {
      const text = await playlist(address);
      return (text.match(/\.m4s/g)?.length ?? 0) >= 3 && text;
    });
    expect(live).not.toContain('#EXT-X-ENDLIST');
    const [init, segment] = [/URI="([^"]+)"/.exec(live)?.[1], /^\d+\/s0_\d+\.m4s$/m.exec(live)?.[0]];
    const bytes = await Promise.all(
      [init, segment].map(async (path) => Buffer.from(await (await fetch(address.replace('main.m3u8', path as string))).arrayBuffer())),
    );
    const file = join(scratchDirectory('watched'), 'part.mp4');
    writeFileSync(file, Buffer.concat(bytes));
    const seen = spawnSync('ffprobe', ['-v', 'error', '-show_entries', 'stream=codec_name,height', '-of', 'csv=p=0', file], {
      encoding: 'utf8',
    });
    expect(seen.stdout.trim().split('\n').sort()).toEqual(['aac', 'h264,360']);
    expect(await read(id)).toMatchObject({ state: 'live', video: true, audio: true, width: 640, height: 360, viewers: 1 });
    expect((await test.app('GET', `/broadcasts/${id}/viewers`, as(runa))).body).toMatchObject({ viewers: 1, users: [{ userId: odd.id }] });
    expect((await sending).status).toBe(200);
    expect(await read(id)).toMatchObject({ state: 'waiting' });
    const ended = (await end(id)).body;
    expect(ended).toMatchObject({ state: 'ended', recording: expect.stringMatching(/^recordings\/cameras\/hollow-col\/.*\.mp4$/) });
    expect(await playlist(address)).toContain('#EXT-X-ENDLIST');
    const path = encodeURI(ended.recording);
    const facts = (await test.app('GET', `/file-facts/${path}`, as(runa))).body;
    expect(facts).toMatchObject({ type: 'video/mp4', ownerId: runa.id });
    expect(facts.durationMs).toBeGreaterThan(5_500);
    const cut = await test.app('POST', '/recording-cuts', {
      ...as(runa),
      body: { path: ended.recording, fromMs: 1000, toMs: 3000, to: 'cuts/short.mp4' },
    });
    expect([cut.status, cut.body.durationMs < 4_000]).toEqual([201, true]);
    const poster = await fetch(`${test.address}/app/v1/files/cuts/short.mp4?width=160&format=webp`, {
      headers: { 'orchard-key': app.dev.clientKey, authorization: `Bearer ${runa.token}` },
    });
    expect([poster.status, poster.headers.get('content-type')]).toEqual([200, 'image/webp']);
  }, 60_000);

  it('goes on when its device comes back, as another run of the same playlist', async () => {
    const { id, ingest } = await begin('cameras/ridge');
    const address = await viewOf(id);
    expect((await sendStream(ingest.address, device(3).stdout)).status).toBe(200);
    expect(
      (await sendStream(ingest.address, device(3, '-f', 'mp4', '-movflags', 'frag_keyframe+empty_moov').stdout, 'video/mp4')).status,
    ).toBe(200);
    const text = await playlist(address);
    expect(text).toMatch(/1\/init0\.mp4[\s\S]*1\/s0_[\s\S]*#EXT-X-DISCONTINUITY\n#EXT-X-MAP:URI="2\/init0\.mp4"[\s\S]*2\/s0_/);
    expect((await read(id)).runs).toBe(2);
    await end(id);
    expect(await problemOf(await sendStream(ingest.address, device(1).stdout))).toEqual([410, 'broadcast-ended']);
  }, 60_000);

  it('takes no piece that would fill the memory', async () => {
    const { id, ingest } = await begin('phones/vast');
    const answer = await new Promise<{ status: number; text: string }>((resolve, reject) => {
      const sending = httpRequest(`${ingest.pieces}0`, {
        method: 'PUT',
        headers: { 'Content-Type': 'video/webm', 'Content-Length': 40_000_000 },
      });
      sending.on('error', reject).on('response', async (response) => {
        resolve({ status: response.statusCode as number, text: (await response.toArray()).join('') });
        sending.destroy();
      });
      sending.flushHeaders();
    });
    expect([answer.status, answer.text]).toEqual([422, expect.stringContaining('A piece has at most 33,554,432 bytes')]);
    await end(id);
  });

  it('comes in numbered pieces of a browser, each once and none left out', async () => {
    const { id, ingest } = await begin('phones/runa');
    const camera = encoder(
      ...PICTURE,
      ...SOUND,
      '-t',
      '4',
      '-c:v',
      'libvpx',
      '-b:v',
      '300k',
      '-deadline',
      'realtime',
      '-c:a',
      'libopus',
      '-f',
      'webm',
    );
    const whole = await buffer(camera.stdout);
    const size = Math.ceil(whole.length / 4);
    const put = (number: number) =>
      fetch(`${ingest.pieces}${number}`, {
        method: 'PUT',
        headers: { 'content-type': 'video/webm;codecs=vp8,opus' },
        body: whole.subarray(number * size, (number + 1) * size) as never,
      });
    expect(await problemOf(await put(2))).toEqual([409, 'piece-missing']);
    expect(await (await put(0)).json()).toMatchObject({ id, next: 1 });
    expect(await (await put(0)).json()).toMatchObject({ next: 1 });
    expect(await problemOf(await put(3))).toEqual([409, 'piece-missing']);
    for (const number of [1, 2, 3]) expect((await put(number)).status).toBe(200);
    const address = await viewOf(id);
    await end(id);
    expect(await playlist(address)).toMatch(/s0_\d+\.m4s[\s\S]*#EXT-X-ENDLIST/);
  }, 60_000);

  it('may be audio alone', async () => {
    const { id, ingest } = await begin('voices/rescue');
    expect((await sendStream(ingest.address, encoder(...SOUND, '-t', '3', '-c:a', 'aac', '-f', 'mpegts').stdout)).status).toBe(200);
    expect(await read(id)).toMatchObject({ video: false, audio: true });
    expect(await playlist(await viewOf(id))).toContain('s0_');
    await end(id);
  }, 60_000);
});

describe('what may not be', () => {
  it('is told: noise, forms that are none, playlists from outside, and too much', async () => {
    const noise = await begin('noise');
    const bytes = Buffer.alloc(2_500_000, 'no video at all, whatever it says of itself ');
    expect(await problemOf(await sendStream(noise.ingest.address, Readable.from([bytes])))).toEqual([422, 'broadcast-refused']);
    expect(await read(noise.id)).toMatchObject({ state: 'ended', trouble: expect.stringContaining('neither video nor audio') });
    const form = await begin('form');
    expect(await problemOf(await sendStream(form.ingest.address, Readable.from(['x']), 'text/plain'))).toEqual([422, 'broadcast-refused']);
    const outside = `#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\nfile:///etc/passwd\n${'#\n'.repeat(1_200_000)}`;
    expect((await sendStream(form.ingest.address, Readable.from([Buffer.from(outside)]))).status).toBe(422);
    await test.owner.call(operations.managedBroadcasts.changeSettings, { params: app.dev.params, body: { mostKbits: 100 } });
    const fast = await begin('fast');
    const camera = device(8);
    expect(await problemOf(await sendStream(fast.ingest.address, camera.stdout))).toEqual([422, 'broadcast-refused']);
    camera.kill();
    expect((await read(fast.id)).trouble).toContain('a broadcast has at most 100');
    await test.owner.call(operations.managedBroadcasts.changeSettings, { params: app.dev.params, body: { mostKbits: 8_000 } });
  }, 60_000);

  it('goes by the rules, and by who began it', async () => {
    await test.owner.call(operations.managedBroadcasts.changeSettings, {
      params: app.dev.params,
      body: { send: "ownerId = me('id') AND name LIKE 'phones/%'", watch: "name <> 'phones/secret'", mostAtOnce: 2 },
    });
    const refused = await test.app('POST', '/broadcasts', { ...as(odd), body: { name: 'cameras/mine' } });
    expect([refused.status, refused.body.detail]).toEqual([403, expect.stringContaining('The rule for sending broadcasts')]);
    const { id } = await begin('phones/secret');
    expect((await test.app('POST', `/broadcasts/${id}/views`, as(odd))).status).toBe(403);
    expect((await test.app('GET', '/broadcasts?state=waiting', as(odd))).body.items).toEqual([]);
    expect((await test.app('POST', `/broadcasts/${id}/end`, as(odd))).status).toBe(403);
    await begin('phones/two');
    expect((await test.app('POST', '/broadcasts', { ...as(runa), body: { name: 'phones/three' } })).body.type).toBe(
      '/docs/problems/too-many-broadcasts',
    );
    await expect(
      test.owner.call(operations.managedBroadcasts.changeSettings, { params: app.dev.params, body: { watch: 'nane = 1' } }),
    ).rejects.toMatchObject({ problem: 'malformed-filter' });
    const address = await test.owner.call(operations.managedBroadcasts.open, { params: { ...app.dev.params, id } });
    const [, secret = ''] = /watch\/([^/]+)\//.exec(address.address) ?? [];
    expect((await fetch(address.address.replace(secret, tampered(secret)))).status).toBe(422);
    expect((await fetch(address.address.replace('main.m3u8', '..%2f..%2fsecret.key'))).status).toBe(404);
  });

  it('ends when nothing arrives any more, and no encoder outlives the service', async () => {
    await test.owner.call(operations.managedBroadcasts.changeSettings, {
      params: app.dev.params,
      body: { send: 'TRUE', watch: 'TRUE', mostAtOnce: 10, silentSeconds: 5 },
    });
    const { id, ingest } = await begin('phones/quiet');
    const camera = device(60);
    const sending = sendStream(ingest.address, camera.stdout).catch(() => undefined);
    await eventually(async () => (await read(id)).state === 'live');
    expect(encodersIn(test.config.filesDirectory)).toHaveLength(1);
    camera.kill('SIGSTOP');
    await eventually(async () => (await read(id)).state === 'ended');
    expect((await read(id)).trouble).toBe('Nothing arrived for 5 seconds.');
    camera.kill('SIGKILL');
    await sending;
    await eventually(() => encodersIn(test.config.filesDirectory).length === 0);
    await once(camera, 'close').catch(() => undefined);
  }, 60_000);
});
