/**
 * Threads of a lower priority for hashing passwords. A hash keeps a core busy for some twenty milliseconds by design; on the
 * threads that Node shares for files and names, or at the priority of all others, many sign-ins would hold up every call.
 */
import { availableParallelism } from 'node:os';
import { threadFile } from '../threads/threadFile.js';
import { ThreadPool } from '../threads/threadPool.js';

/** `against`: the hash that the password is checked by; null to make one. */
export type HashTask = { password: string; against: string | null };

const threads = new ThreadPool<HashTask, string | boolean>(threadFile(new URL('./hashWorker.js', import.meta.url)), {
  most: Math.max(2, Math.min(4, availableParallelism())),
  together: 1,
  limits: { maxOldGenerationSizeMb: 24, maxYoungGenerationSizeMb: 2 },
});
export const hashInThread = (password: string): Promise<string> => threads.run({ password, against: null }) as Promise<string>;
export const matchesInThread = (against: string, password: string): Promise<boolean> =>
  threads.run({ password, against }) as Promise<boolean>;
