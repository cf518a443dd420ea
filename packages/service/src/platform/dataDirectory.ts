/** The data directory: its lock, and the secret key in it. */
import { hkdfSync, randomBytes } from 'node:crypto';
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

/** When a process started, in clock ticks since boot; tells a live process from a later one with the same pid. Null when it is gone. */
export function startedAt(pid: number): string | null {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, 'utf8');
    const fields = stat.slice(stat.lastIndexOf(')') + 2).split(' ');
    return fields[0] === 'Z' ? null : (fields[19] ?? null);
  } catch {
    return null;
  }
}

function writeLock(path: string): void {
  writeFileSync(path, JSON.stringify({ pid: process.pid, started: startedAt(process.pid) }), { flag: 'wx', mode: 0o600 });
}

/**
 * Takes the data directory for this process, creating it when needed. A lock left by a killed process is taken over.
 * @returns a function that releases it
 * @throws Error when another live process holds it
 */
export function holdDataDirectory(directory: string): () => void {
  mkdirSync(directory, { recursive: true, mode: 0o700 });
  const path = join(directory, 'service.lock');
  try {
    writeLock(path);
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error;
    const holder = readHolder(path);
    if (holder && startedAt(holder.pid) === holder.started) {
      throw new Error(
        `The data directory ${directory} is in use by process ${holder.pid}. Stop that one first, or choose another directory with ORCHARD_DATA (for the demo: -- --data DIR).`,
      );
    }
    rmSync(path, { force: true });
    writeLock(path);
  }
  return () => rmSync(path, { force: true });
}

function readHolder(path: string): { pid: number; started: string } | null {
  try {
    return JSON.parse(readFileSync(path, 'utf8'));
  } catch {
    return null;
  }
}

/** A file of the directory, made at the first start. */
function readOrMake(path: string, make: () => string): string {
  try {
    return readFileSync(path, 'utf8').trim();
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'ENOENT') throw error;
    const made = make();
    writeFileSync(path, `${made}\n`, { mode: 0o600, flag: 'wx' });
    return made;
  }
}

/** The 32-byte key that credentials are encrypted under: the configured one, or a file made at the first start. */
export function readSecretKey(directory: string, configured: Buffer | undefined): Buffer {
  return (
    configured ??
    Buffer.from(
      readOrMake(join(directory, 'secret.key'), () => randomBytes(32).toString('hex')),
      'hex',
    )
  );
}

/** The file that holds the key of backups, where the settings have none. */
export const backupKeyFile = (directory: string): string => join(directory, 'backup.key');

/**
 * The key of backups, as 64 hexadecimal digits. It is made from the secret key at the first use, so that all instances have the
 * same one; what counts from then on is the file.
 * @throws Error when the file holds something else
 */
export function readBackupKey(directory: string, secretKey: Buffer): string {
  const key = readOrMake(backupKeyFile(directory), () => Buffer.from(hkdfSync('sha256', secretKey, '', 'backups', 32)).toString('hex'));
  if (/^[0-9a-f]{64}$/i.test(key)) return key;
  throw new Error(`${backupKeyFile(directory)} does not hold a key of 64 hexadecimal digits. Put the original file back.`);
}

/**
 * The name under which successive instances on this directory hold jobs, so that the next one recognizes the jobs of a
 * killed one.
 */
export const readHolderName = (directory: string): string => readOrMake(join(directory, 'instance'), () => randomBytes(8).toString('hex'));
