/** What runs with the service may be passed on with it, and the list of licences says what that is. */
import { execFileSync } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { expect, it } from 'vitest';

const SCRIPT = fileURLToPath(new URL('../../../scripts/licences.mjs', import.meta.url));

it('of every package is one that may be passed on, and in docs/licences.md', () => {
  expect(execFileSync(process.execPath, [SCRIPT, '--check'], { encoding: 'utf8' })).toBe('');
});
