/** Backups in a directory of the machine, or on a mount. */
import { createReadStream, createWriteStream } from 'node:fs';
import { mkdir, open, readdir, readFile, rename, rm, rmdir, stat } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { type Place, PlaceProblem } from './place.js';

type Failure = NodeJS.ErrnoException;
const KINDS: Record<string, PlaceProblem['kind']> = {
  ENOENT: 'missing',
  ENOSPC: 'full',
  EDQUOT: 'full',
  EACCES: 'refused',
  EROFS: 'refused',
};

export class DirectoryPlace implements Place {
  readonly words: string;
  #written = 0;

  constructor(private readonly directory: string) {
    this.words = `the directory ${directory}`;
  }

  #at(path: string): string {
    return join(this.directory, path);
  }

  async list(folder: string): Promise<string[]> {
    try {
      return await readdir(this.#at(folder));
    } catch (error) {
      if (['ENOENT', 'ENOTDIR'].includes((error as Failure).code ?? '')) return [];
      throw this.#problem(error);
    }
  }

  async read(path: string): Promise<Buffer> {
    return readFile(this.#at(path)).catch((error) => Promise.reject(this.#problem(error)));
  }

  async stream(path: string): Promise<Readable> {
    const handle = await open(this.#at(path)).catch((error) => Promise.reject(this.#problem(error)));
    return createReadStream('', { fd: handle as never, highWaterMark: 256 * 1024 });
  }

  /** Written beside its place, flushed, and renamed: a machine that fails meanwhile leaves no half of it. */
  async write(path: string, content: Buffer | Readable): Promise<void> {
    const whole = this.#at(path);
    const beside = `${whole}.${process.pid}-${++this.#written}.part`;
    try {
      await mkdir(dirname(whole), { recursive: true, mode: 0o700 });
      const from = Buffer.isBuffer(content) ? Readable.from([content]) : content;
      await pipeline(from, createWriteStream(beside, { mode: 0o600, flush: true }));
      await rename(beside, whole);
    } catch (error) {
      await rm(beside, { force: true }).catch(() => undefined);
      throw this.#problem(error);
    }
  }

  async size(path: string): Promise<number | null> {
    try {
      return (await stat(this.#at(path))).size;
    } catch (error) {
      if ((error as Failure).code === 'ENOENT') return null;
      throw this.#problem(error);
    }
  }

  async remove(path: string): Promise<void> {
    try {
      await rm(this.#at(path));
    } catch (error) {
      const { code } = error as Failure;
      if (code === 'ENOENT') return;
      // Of a folder: one that has got new files meanwhile stays.
      if (code === 'ERR_FS_EISDIR' || code === 'EISDIR') return rmdir(this.#at(path)).catch(() => undefined);
      throw this.#problem(error);
    }
  }

  async close(): Promise<void> {}

  #problem(error: unknown): unknown {
    const { code = '', message } = error as Failure;
    const kind = KINDS[code];
    if (kind === 'full') return new PlaceProblem(kind, `There is no room left in ${this.words}. Make room, or choose another place.`);
    if (kind === 'refused')
      return new PlaceProblem(
        kind,
        `The service may not write to ${this.words} (${code}). Give its user the right to, or choose another place.`,
      );
    if (kind === 'missing')
      return new PlaceProblem(kind, `A file of the backup is missing in ${this.words}: ${message.split("'")[1] ?? ''}.`);
    if (code) return new PlaceProblem('away', `${this.words} cannot be used (${code}). Check that it is mounted.`);
    return error;
  }
}
