/** Files and priorities of the service's threads. */
import { setPriority } from 'node:os';
import { fileURLToPath } from 'node:url';

/** Tests run the sources; a thread is always the built file. */
export const threadFile = (built: URL): string => fileURLToPath(built).replace('/packages/service/src/', '/packages/service/dist/');

/**
 * Lets everything else run first, so that calls are served meanwhile.
 * @param by how far, up to 19
 */
export function stepBehind(by: number): void {
  // On Linux this is of the calling thread alone (setpriority(2)); elsewhere it would be of the whole process.
  if (process.platform === 'linux') setPriority(by);
}
