/**
 * Encrypts push messages on threads: each takes a fifth of a millisecond of a core, and a send to everybody would hold up the
 * calls that come meanwhile.
 */
import { availableParallelism } from 'node:os';
import { threadFile } from '../../platform/threads/threadFile.js';
import { ThreadPool } from '../../platform/threads/threadPool.js';

/** `plain` as composed, the subscription's keys as it gave them in base64url, and the salt of this message. */
export type EncryptTask = { plain: Uint8Array; p256dh: string; auth: string; salt: Uint8Array };

const threads = new ThreadPool<EncryptTask, Uint8Array>(threadFile(new URL('./encryptWorker.js', import.meta.url)), {
  most: Math.max(1, availableParallelism()),
  // Messages to a thread cost as much as some encryptions; more of them would wait for the slowest of their lot.
  together: 24,
});

/** @throws Error when the message is too long, or the key is not a point on P-256 */
export const encryptInThread = (task: EncryptTask): Promise<Uint8Array> => threads.run(task);
