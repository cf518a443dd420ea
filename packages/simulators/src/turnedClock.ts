/** Programs on a machine whose clock is off, by Debian's package `faketime`. What they measure durations by is right. */
import { existsSync, readdirSync } from 'node:fs';
import { join } from 'node:path';

const LIBRARIES = '/usr/lib';

/** @param aheadS how far the clock is ahead, in seconds @returns what the program is started with; nothing for a clock that is right */
export function turnedClock(aheadS: number): Record<string, string> {
  if (aheadS === 0) return {};
  return { LD_PRELOAD: library(), FAKETIME: `${aheadS < 0 ? '' : '+'}${aheadS}`, DONT_FAKE_MONOTONIC: '1' };
}

function library(): string {
  for (const architecture of readdirSync(LIBRARIES)) {
    const path = join(LIBRARIES, architecture, 'faketime/libfaketimeMT.so.1');
    if (existsSync(path)) return path;
  }
  throw new Error('Clocks cannot be turned. Install the Debian package `faketime`.');
}
