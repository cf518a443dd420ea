/** Threads for work that would hold up calls: encryption of push messages, and hashes of passwords. */
import { createECDH, randomBytes } from 'node:crypto';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { decryptMessage } from '@orchard/core/push';
import { expect, it } from 'vitest';
import { encryptInThread } from '../src/messages/gateways/encryptThreads.js';
import { hashInThread, matchesInThread } from '../src/platform/access/hashThreads.js';
import { ThreadLost, ThreadPool } from '../src/platform/threads/threadPool.js';
import { scratchDirectory } from './scratch.js';

function phone() {
  const ecdh = createECDH('prime256v1');
  const p256dh = ecdh.generateKeys('base64url');
  const auth = randomBytes(16);
  const task = (text: string) => ({ plain: Buffer.from(text), p256dh, auth: auth.toString('base64url'), salt: randomBytes(16) });
  return { task, read: (body: Uint8Array) => decryptMessage(Buffer.from(body), ecdh.getPrivateKey(), auth).toString() };
}

it('gives each phone the message that was meant for it, however many are asked for at once', async () => {
  const phones = Array.from({ length: 200 }, phone);
  const bodies = await Promise.all(phones.map(({ task }, i) => encryptInThread(task(`The hut ${i} is open`))));
  expect(phones.map(({ read }, i) => read(bodies[i] as Uint8Array))).toEqual(phones.map((_, i) => `The hut ${i} is open`));
});

it('tells only the one whose key is wrong', async () => {
  const one = phone();
  const wrong = { ...one.task('never'), p256dh: randomBytes(65).toString('base64url') };
  const [good, bad] = await Promise.allSettled([encryptInThread(one.task('Snow on the ridge')), encryptInThread(wrong)]);
  expect(good.status === 'fulfilled' && one.read(good.value)).toBe('Snow on the ridge');
  expect(bad.status).toBe('rejected');
});

it('hashes passwords, and says which one fits', async () => {
  const hash = await hashInThread('larch and lichen');
  expect(await Promise.all(['larch and lichen', 'lark'].map((password) => matchesInThread(hash, password)))).toEqual([true, false]);
});

it('goes on with another thread when one has died, and tells those it has taken along', async () => {
  const file = join(scratchDirectory('threads'), 'mortal.mjs');
  writeFileSync(
    file,
    `import { parentPort } from 'node:worker_threads';
     parentPort.on('message', (tasks) => {
       if (tasks.includes('die')) throw new Error('gone');
       parentPort.postMessage(tasks.map((value) => ({ value })));
     });`,
  );
  const pool = new ThreadPool<string, string>(file, { most: 2, together: 1 });
  const all = await Promise.allSettled(['a', 'die', 'b', 'c'].map((task) => pool.run(task)));
  expect(all.map((one) => (one.status === 'fulfilled' ? one.value : one.reason))).toEqual(['a', expect.any(ThreadLost), 'b', 'c']);
});
