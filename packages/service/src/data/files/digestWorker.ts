/** The thread that digests long contents. */
import { createHash, type Hash } from 'node:crypto';
import { parentPort } from 'node:worker_threads';
import type { DigestAnswer, DigestTask } from './digestThread.js';

const hashes = new Map<number, Hash>();

parentPort?.on('message', ({ id, bytes, ends }: DigestTask) => {
  const hash = hashes.get(id) ?? createHash('sha256');
  if (bytes) hash.update(bytes);
  if (ends) hashes.delete(id);
  else hashes.set(id, hash);
  const answer: DigestAnswer = {
    id,
    taken: bytes?.length ?? 0,
    ...(ends ? { ended: true } : {}),
    ...(ends === 'told' ? { digest: hash.digest('hex') } : {}),
  };
  parentPort?.postMessage(answer);
});
