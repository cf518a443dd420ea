import { mkdtempSync, statfsSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';

const ROOM = 2 ** 31;

function inMemory(): boolean {
  try {
    const { bavail, bsize } = statfsSync('/dev/shm');
    return bavail * bsize > ROOM;
  } catch {
    return false;
  }
}

/** A directory for one test run; in memory where there is room, so that a busy disk does not decide how long tests take. */
export const scratchDirectory = (name: string): string => mkdtempSync(join(inMemory() ? '/dev/shm' : tmpdir(), `orchard-${name}-`));
