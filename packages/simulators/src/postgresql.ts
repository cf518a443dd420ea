/** A PostgreSQL server of one's own, from Debian's package: data in a directory, on the loopback address alone. */
import { type ChildProcess, execFileSync, spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chownSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';

/** `forget` deletes its data. */
export type PostgresqlServer = { port: number; user: string; password: string; stop: () => Promise<void>; forget: () => void };

const PACKAGED = '/usr/lib/postgresql';
const START_MS = 20_000;

/** The folder of its programs: in the path, or where Debian keeps them. */
function programs(): string {
  const folders = (process.env.PATH ?? '').split(':');
  if (existsSync(PACKAGED)) for (const version of readdirSync(PACKAGED).sort().reverse()) folders.unshift(join(PACKAGED, version, 'bin'));
  const found = folders.find((folder) => existsSync(join(folder, 'initdb')) && existsSync(join(folder, 'postgres')));
  if (!found) throw new Error('PostgreSQL is not installed. Install the Debian package `postgresql`.');
  return found;
}

/** It does not run as root: the package's own user does it then. */
function runner(): { uid: number; gid: number } | null {
  if (process.getuid?.() !== 0) return null;
  const number = (option: string) => Number(execFileSync('id', [option, 'postgres'], { encoding: 'utf8' }));
  return { uid: number('-u'), gid: number('-g') };
}

/** Its user may not be able to reach a directory of root's, so that its data stands where anybody's may. */
const homeOf = (directory: string, isRoot: boolean): string =>
  isRoot
    ? join('/var/tmp', `orchard-postgresql-${createHash('sha256').update(directory).digest('hex').slice(0, 16)}`)
    : join(directory, 'postgresql');

/** Deletes the data of a server that is not running. */
export function forgetPostgresql(directory: string): void {
  const home = homeOf(directory, process.getuid?.() === 0);
  endLeftBehind(home);
  rmSync(home, { recursive: true, force: true });
}

/** A program that was killed leaves its server running; it is ended by its own note of its number. */
function endLeftBehind(home: string): void {
  const note = join(home, 'data', 'postmaster.pid');
  if (!existsSync(note)) return;
  const pid = Number(readFileSync(note, 'utf8').split('\n')[0]);
  const runs = () => existsSync(`/proc/${pid}`) && readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes(home);
  if (runs()) process.kill(pid, 'SIGQUIT');
  for (let i = 0; runs() && i < 50; i++) Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, 100);
  rmSync(note, { force: true });
}

/** Starts a server on a port; the first time it makes its data. */
export async function startPostgresql(directory: string, port: number, password: string): Promise<PostgresqlServer> {
  const bin = programs();
  const as = runner();
  const home = homeOf(directory, as !== null);
  const data = join(home, 'data');
  endLeftBehind(home);
  if (!existsSync(join(data, 'PG_VERSION'))) initialise(bin, home, password, as);
  const server = spawn(
    join(bin, 'postgres'),
    ['-D', data, '-p', String(port), '-k', '', '-c', 'listen_addresses=127.0.0.1', '-c', 'fsync=off', '-c', 'max_connections=50'],
    { stdio: 'ignore', ...(as ?? {}) },
  );
  await answering(server, port);
  return {
    port,
    user: 'postgres',
    password,
    stop: async () => {
      if (server.exitCode !== null) return;
      const ended = new Promise((resolve) => server.once('exit', resolve));
      // Smart shutdown waits for clients; a fast one (SIGINT) does not.
      server.kill('SIGINT');
      await ended;
    },
    forget: () => rmSync(home, { recursive: true, force: true }),
  };
}

function initialise(bin: string, home: string, password: string, as: { uid: number; gid: number } | null): void {
  const data = join(home, 'data');
  rmSync(home, { recursive: true, force: true });
  mkdirSync(data, { recursive: true, mode: 0o700 });
  const file = join(home, 'password');
  writeFileSync(file, password, { mode: 0o600 });
  if (as) for (const path of [home, data, file]) chownSync(path, as.uid, as.gid);
  execFileSync(
    join(bin, 'initdb'),
    ['-D', data, '-U', 'postgres', '--pwfile', file, '--auth=scram-sha-256', '--encoding=UTF8', '--locale=C.UTF-8', '--no-sync'],
    { stdio: 'ignore', ...(as ?? {}) },
  );
}

async function answering(server: ChildProcess, port: number): Promise<void> {
  const until = Date.now() + START_MS;
  const isOpen = () =>
    new Promise<boolean>((resolve) => {
      const socket = connect({ host: '127.0.0.1', port });
      socket.once('connect', () => resolve(true)).once('error', () => resolve(false));
      socket.once('connect', () => socket.destroy());
    });
  while (Date.now() < until) {
    if (server.exitCode !== null) throw new Error(`PostgreSQL ended with ${server.exitCode} while it started.`);
    if (await isOpen()) return;
    await sleep(100);
  }
  throw new Error('PostgreSQL did not answer in time.');
}
