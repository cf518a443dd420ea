// npm test: installs what is missing, builds, and runs everything; with words after --, the files whose path has one of
// them. Names the ten slowest tests. The last line is `N passed, N failed`.
import { spawnSync } from 'node:child_process';
import { existsSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, relative } from 'node:path';
import { needBuild, needDebian, needNode, needPackages, root } from './prepare.mjs';

needNode();
needDebian({
  mariadbd: 'mariadb-server',
  postgres: 'postgresql',
  slapd: 'slapd',
  ffmpeg: 'ffmpeg',
  turnserver: 'coturn',
  chromium: 'chromium',
  curl: 'curl',
  sshd: 'openssh-server',
  haproxy: 'haproxy',
  rsync: 'rsync',
  faketime: 'faketime',
});
needPackages();
needBuild();
const words = process.argv.slice(2);
/** `npm test -- storm`: it kills what it runs on, and needs the machine for itself. */
const isStorm = words.join() === 'storm';
const report = join(tmpdir(), `orchard-report-${process.pid}.json`);
const { status } = spawnSync(
  join(root, 'node_modules/.bin/vitest'),
  ['run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...words],
  { cwd: root, stdio: 'inherit', env: { ...process.env, ...(isStorm ? { ORCHARD_STORM: '1' } : {}) } },
);
const {
  numPassedTests = 0,
  numFailedTests = 0,
  numFailedTestSuites = 0,
  testResults = [],
} = existsSync(report) ? JSON.parse(readFileSync(report, 'utf8')) : {};
rmSync(report, { force: true });
const slowest = testResults
  .flatMap(({ name, assertionResults }) => assertionResults.map(({ fullName, duration }) => ({ name, fullName, duration: duration ?? 0 })))
  .sort((a, b) => b.duration - a.duration)
  .slice(0, 10);
if (slowest.length > 0) console.log('\nSlowest tests');
for (const { name, fullName, duration } of slowest)
  console.log(`${(duration / 1000).toFixed(1).padStart(7)} s  ${relative(root, name)}  ${fullName}`);
console.log('');
// A file that breaks before its first test counts as one failure.
const failed = numFailedTests || (status === 0 ? 0 : Math.max(1, numFailedTestSuites));
console.log(`${numPassedTests} passed, ${failed} failed`);
process.exit(status === 0 && numPassedTests > 0 ? 0 : 1);
