// What every command of this repository needs before it can run, on a machine that has nothing but git and Node.
// Plain JavaScript without packages: it runs before any are installed.
import { execFileSync, spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

export const root = fileURLToPath(new URL('..', import.meta.url));
const say = (text) => process.stderr.write(`${text}\n`);

/** Runs a command with its output shown; ends this process when it fails. */
export function run(command, args, options = {}) {
  const { status, error, signal } = spawnSync(command, args, { cwd: root, stdio: 'inherit', ...options });
  if (error || status !== 0) {
    say(`\n${command} ${args.join(' ')} failed${error ? `: ${error.message}` : ''}.`);
    process.exit(signal ? 1 : status || 1);
  }
}

/** Debian keeps the programs of PostgreSQL by version. */
const postgresql = '/usr/lib/postgresql';
const folders = () => [
  ...(process.env.PATH ?? '').split(':'),
  ...(existsSync(postgresql) ? readdirSync(postgresql).map((version) => join(postgresql, version, 'bin')) : []),
];
const isThere = (program) => folders().some((folder) => existsSync(join(folder, program)));

/** Installs Debian packages whose program is missing; where that is not allowed, says which command does it. */
export function needDebian(needs) {
  const missing = Object.entries(needs)
    .filter(([program]) => !isThere(program) && !existsSync(`/usr/sbin/${program}`))
    .map(([, name]) => name);
  if (missing.length === 0) return;
  const command = `apt-get update && apt-get install -y --no-install-recommends ${missing.join(' ')}`;
  if (process.getuid?.() !== 0 || !isThere('apt-get')) {
    say(`This needs ${missing.join(' and ')}. Install with:\n\n  sudo sh -c '${command}'\n\nand start again.`);
    process.exit(1);
  }
  say(`Installing ${missing.join(' and ')} from Debian …`);
  // Debian starts a server it has just installed; ours runs on its own data, so the package's is not wanted.
  const policy = '/usr/sbin/policy-rc.d';
  const ownPolicy = !existsSync(policy);
  if (ownPolicy) writeFileSync(policy, '#!/bin/sh\nexit 101\n', { mode: 0o755 });
  try {
    execFileSync('sh', ['-c', command], {
      stdio: ['ignore', 'ignore', 'inherit'],
      env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' },
    });
  } catch {
    say(`That failed. Install by hand with:\n\n  ${command}`);
    process.exit(1);
  } finally {
    if (ownPolicy) execFileSync('rm', ['-f', policy]);
  }
}

const hashOf = (...files) => files.reduce((hash, file) => hash.update(readFileSync(file)), createHash('sha256')).digest('hex');
const readStamp = (file) => (existsSync(file) ? readFileSync(file, 'utf8') : '');

/** Installs the npm packages of the lock file, when they are not there yet or the lock file has changed. */
export function needPackages() {
  const stamp = join(root, 'node_modules/.orchard-lock');
  const wanted = hashOf(join(root, 'package-lock.json'));
  if (readStamp(stamp) === wanted) return;
  say('Installing npm packages by the lock file …');
  run('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error'], { stdio: ['ignore', 'ignore', 'inherit'] });
  writeFileSync(stamp, wanted);
}

function* sources(folder) {
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    if (entry.name === 'node_modules' || entry.name === 'dist' || entry.name === 'test') continue;
    const path = join(folder, entry.name);
    if (entry.isDirectory()) yield* sources(path);
    else if (/\.(tsx?|json|html|css|svg)$/.test(entry.name)) yield path;
  }
}

/** Builds all packages, when a source is newer than the last build. */
export function needBuild() {
  const stamp = join(root, 'node_modules/.orchard-build');
  const hash = createHash('sha256');
  for (const file of [...sources(join(root, 'packages'))].sort()) {
    const { mtimeMs, size } = statSync(file);
    hash.update(`${file} ${mtimeMs} ${size}\n`);
  }
  const wanted = hash.digest('hex');
  if (readStamp(stamp) === wanted) return;
  say('Building …');
  build();
  mkdirSync(join(root, 'node_modules'), { recursive: true });
  writeFileSync(stamp, wanted);
}

export function build() {
  const bin = join(root, 'node_modules/.bin');
  run(join(bin, 'tsc'), ['-b']);
  run(join(bin, 'vite'), ['build', 'packages/service', '--logLevel', 'warn']);
  run(join(bin, 'vite'), ['build', 'packages/cli', '--logLevel', 'warn']);
  run(process.execPath, ['packages/cli/bin/compile.js']);
  run(process.execPath, ['packages/client/build.mjs']);
  run(join(bin, 'vite'), ['build', 'packages/hiker', '--logLevel', 'warn']);
  run(join(bin, 'vite'), ['build', 'packages/console', '--logLevel', 'warn']);
}

export function needNode() {
  const [major, minor] = process.versions.node.split('.').map(Number);
  if (major > 20 || (major === 20 && minor >= 19)) return;
  say(`This needs Node.js 20.19 or later; this is ${process.versions.node}.`);
  process.exit(1);
}
