import { chmodSync, mkdtempSync, rmSync, statfsSync } from 'node:fs';
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

/**
 * Gives the test run a place of its own for all that it and its child processes keep for a while: in memory where there is
 * room, so that a busy disk does not decide how long tests take. @returns what removes it
 */
export function makeScratch(): () => void {
  const run = mkdtempSync(join(inMemory() ? '/dev/shm' : tmpdir(), 'orchard-tests-'));
  // Some servers run as users of their own: anybody's, as the machine's temporary directory is.
  chmodSync(run, 0o1777);
  process.env.TMPDIR = run;
  return () => rmSync(run, { recursive: true, force: true });
}

/** A directory for one test, removed with the run's. */
export const scratchDirectory = (name: string): string => mkdtempSync(join(tmpdir(), `orchard-${name}-`));
