// npm test: installs what is missing, builds, and runs everything. The last line is `N passed, N failed`.
import { spawnSync } from 'node:child_process';
import { existsSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { needBuild, needDebian, needNode, needPackages, root } from './prepare.mjs';

needNode();
needDebian({ mariadbd: 'mariadb-server', chromium: 'chromium', curl: 'curl' });
needPackages();
needBuild();
const report = join(tmpdir(), `orchard-report-${process.pid}.json`);
const { status } = spawnSync(
  join(root, 'node_modules/.bin/vitest'),
  ['run', '--reporter=default', '--reporter=json', `--outputFile.json=${report}`, ...process.argv.slice(2)],
  { cwd: root, stdio: 'inherit' },
);
const {
  numPassedTests = 0,
  numFailedTests = 0,
  numFailedTestSuites = 0,
} = existsSync(report) ? JSON.parse(readFileSync(report, 'utf8')) : {};
rmSync(report, { force: true });
// A file that breaks before its first test counts as one failure.
const failed = numFailedTests || (status === 0 ? 0 : Math.max(1, numFailedTestSuites));
console.log(`${numPassedTests} passed, ${failed} failed`);
process.exit(status === 0 && numPassedTests > 0 ? 0 : 1);
