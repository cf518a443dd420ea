/** Two minutes of the storm: everything at once on a cluster, while parts of it are killed at random. `npm run storm` is the long one. */
import { execFile } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { promisify } from 'node:util';
import { expect, it } from 'vitest';
import { scratchDirectory } from '../../service/test/scratch.js';

const STORM = fileURLToPath(new URL('../dist/storm/main.js', import.meta.url));
/** The same faults every time: what fails is then of the change. */
const SIZE = ['--seconds', '120', '--writers', '8', '--readers', '40', '--devices', '1000', '--seed', '4711'];

// It needs the machine for itself: beside other tests it starves them.
it.runIf(process.env.ORCHARD_STORM)(
  'loses nothing that was acknowledged, does nothing twice, and shows every reader everything in order',
  async () => {
    const { stdout } = await promisify(execFile)(process.execPath, [STORM, ...SIZE, '--data', scratchDirectory('storm')], {
      maxBuffer: 10_000_000,
    }).catch((error: Error & { stdout?: string }) => ({ stdout: `${error.stdout ?? ''}\n${error.message}` }));
    expect(stdout).toContain('Nothing acknowledged was lost');
    expect(stdout).not.toContain('BROKEN');
  },
  900_000,
);
