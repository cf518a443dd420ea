// npm run check: format and lint, types, arrows between packages, SQL in its place, unused code.
import { spawnSync } from 'node:child_process';
import { join } from 'node:path';
import { needNode, needPackages, root } from './prepare.mjs';

needNode();
needPackages();
const CHECKS = [
  ['format and lint', 'biome', ['check', '--error-on-warnings', ...(process.argv.includes('--fix') ? ['--write'] : []), '.']],
  ['types', 'tsc', ['-b']],
  ['types of the console', 'tsc', ['-p', 'packages/console', '--noEmit']],
  ['types of the app', 'tsc', ['-p', 'packages/hiker', '--noEmit']],
  ['types of the tests', 'tsc', ['-p', 'tsconfig.test.json']],
  [
    'arrows between packages',
    '../dependency-cruiser/bin/dependency-cruise.mjs',
    ['packages', '--config', '.dependency-cruiser.mjs'],
    { NODE_OPTIONS: '--import ./scripts/typescript-api.mjs' },
  ],
  ['SQL in store files', '../../scripts/sql.mjs', []],
  ['unused code', 'knip', []],
  ['licences', '../../scripts/licences.mjs', ['--check']],
];
const failed = CHECKS.filter(([name, program, args, env]) => {
  process.stdout.write(`${name} … `);
  const { status, stdout, stderr } = spawnSync(join(root, 'node_modules/.bin', program), args, {
    cwd: root,
    encoding: 'utf8',
    env: { ...process.env, ...env },
  });
  console.log(status === 0 ? 'fine' : `\n${stdout}${stderr}`);
  return status !== 0;
});
process.exit(failed.length === 0 ? 0 : 1);
