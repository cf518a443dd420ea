/** A thread that hashes passwords, behind everything else: a sign-in may take a moment, other calls may not. */
import { setPriority } from 'node:os';
import { parentPort } from 'node:worker_threads';
import type { HashAnswer, HashTask } from './hashThreads.js';
import { makeHash, matchesHash } from './passwordHashes.js';

const BEHIND = 10;
// On Linux this is of the calling thread alone (setpriority(2)); elsewhere it would be of the whole process.
if (process.platform === 'linux') setPriority(BEHIND);

parentPort?.on('message', ({ password, against }: HashTask) => {
  const tell = (answer: HashAnswer) => parentPort?.postMessage(answer);
  try {
    tell({ value: against === null ? makeHash(password) : matchesHash(against, password) });
  } catch (error) {
    tell({ failed: (error as Error).message });
  }
});
