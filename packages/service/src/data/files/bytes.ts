/**
 * Where the bytes of files are: a directory, which may be a mount that all instances share. Contents are named by their SHA-256,
 * for each environment apart. What was acknowledged survives a crash: a content is written beside its place, flushed, and renamed.
 */
import { randomUUID } from 'node:crypto';
import { createReadStream, createWriteStream, type ReadStream } from 'node:fs';
import { mkdir, open, readdir, rename, rm, stat, statfs } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type { Readable } from 'node:stream';
import { Problem } from '@orchard/contract';
import { ContentDigest } from './digestThread.js';

/** Room that stays free on the disk: for the database, which may be on it too. */
const KEPT_FREE = 256 * 1024 * 1024;
/** How many first bytes tell what a content is. */
const HEAD_BYTES = 4_100;

/** Written in larger pieces than arrive: fewer trips to the disk, while the next ones are hashed. */
export const WRITE_BUFFER = 512 * 1024;

/** A content that arrived and has no name yet. */
export type Arrived = { file: string; size: number; digest: string; head: Buffer };
export type Limit = { bytes: number; refuse: (bytes: number) => Problem };

export class FileBytes {
  constructor(private readonly directory: string) {}

  #of(environmentId: string): string {
    return join(this.directory, environmentId);
  }

  /** Two levels of folders, so that none gets too large. */
  place(environmentId: string, digest: string): string {
    return join(this.#of(environmentId), digest.slice(0, 2), digest.slice(2, 4), digest);
  }

  /** Where something is written before it has its name. */
  async scratch(environmentId: string, name: string = randomUUID()): Promise<string> {
    const folder = join(this.#of(environmentId), 'incoming');
    await mkdir(folder, { recursive: true });
    return join(folder, name);
  }

  /** Before bytes are taken: whether the disk has room for them. @throws {Problem} storage-full */
  async demandRoom(bytes: number): Promise<void> {
    await mkdir(this.directory, { recursive: true });
    const { bavail, bsize } = await statfs(this.directory);
    if (bavail * bsize - bytes < KEPT_FREE) throw new Problem('storage-full');
  }

  /**
   * Writes a content beside its place, and flushes it.
   * @throws {Problem} what `limit` says of too much; storage-full, upload-broken
   */
  async take(environmentId: string, content: Readable, limit?: Limit): Promise<Arrived> {
    const file = await this.scratch(environmentId);
    const measure = new Measure(limit);
    try {
      await pipeline(content, measure, createWriteStream(file, { flags: 'wx', mode: 0o600, flush: true, highWaterMark: WRITE_BUFFER }));
      return { file, ...(await measure.result()) };
    } catch (error) {
      await rm(file, { force: true });
      throw writingProblem(error);
    }
  }

  /** Measures a content that was written in parts. */
  async measure(file: string): Promise<Arrived> {
    const measure = new Measure();
    await pipeline(createReadStream(file), measure, async (rest) => {
      for await (const _ of rest);
    });
    return { file, ...(await measure.result()) };
  }

  /** Gives an arrived content its name. */
  async keep(environmentId: string, { file, digest }: Pick<Arrived, 'file' | 'digest'>): Promise<void> {
    const place = this.place(environmentId, digest);
    await mkdir(dirname(place), { recursive: true });
    await rename(file, place);
    await flushFolder(dirname(place));
  }

  read(environmentId: string, digest: string, range?: { start: number; end: number }): ReadStream {
    return createReadStream(this.place(environmentId, digest), range);
  }

  async forget(environmentId: string, digest: string): Promise<void> {
    await rm(this.place(environmentId, digest), { force: true });
  }

  /** The digest of what is stored; null where nothing is. */
  async digestOf(environmentId: string, digest: string): Promise<string | null> {
    try {
      return (await this.measure(this.place(environmentId, digest))).digest;
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return null;
      throw error;
    }
  }

  /** Removes what began to arrive long ago and was never kept, except what `isAwaited`. */
  async sweep(environmentId: string, before: number, isAwaited: (name: string) => boolean): Promise<void> {
    const folder = join(this.#of(environmentId), 'incoming');
    for (const name of await readdir(folder).catch(() => [])) {
      const path = join(folder, name);
      const { mtimeMs } = await stat(path).catch(() => ({ mtimeMs: Number.POSITIVE_INFINITY }));
      if (mtimeMs < before && !isAwaited(name)) await rm(path, { force: true });
    }
  }

  async forgetAll(environmentId: string): Promise<void> {
    await rm(this.#of(environmentId), { recursive: true, force: true });
  }
}

/** A rename is only kept over a crash when its folder was flushed. */
async function flushFolder(folder: string): Promise<void> {
  const handle = await open(folder, 'r');
  try {
    await handle.sync();
  } finally {
    await handle.close();
  }
}

/** Lets bytes through, and measures them. */
export class Measure extends Transform {
  readonly #content = new ContentDigest();
  readonly #head: Buffer[] = [];
  #headBytes = 0;
  #size = 0;

  constructor(private readonly limit?: Limit) {
    super();
  }

  override _transform(chunk: Buffer, _encoding: string, done: (error?: Error | null, chunk?: Buffer) => void): void {
    this.#size += chunk.length;
    if (this.limit && this.#size > this.limit.bytes) return done(this.limit.refuse(this.#size));
    if (this.#headBytes < HEAD_BYTES) {
      const part = chunk.subarray(0, HEAD_BYTES - this.#headBytes);
      this.#head.push(Buffer.from(part));
      this.#headBytes += part.length;
    }
    this.#content.update(chunk).then(() => done(null, chunk), done);
  }

  override _destroy(error: Error | null, done: (error?: Error | null) => void): void {
    if (error) this.#content.drop();
    done(error);
  }

  /** Of all that came through. */
  async result(): Promise<{ size: number; digest: string; head: Buffer }> {
    return { size: this.#size, digest: await this.#content.digest(), head: Buffer.concat(this.#head) };
  }
}

/** What a failure to write means to the caller. */
export function writingProblem(error: unknown): unknown {
  const { code } = error as NodeJS.ErrnoException;
  if (code === 'ENOSPC' || code === 'EDQUOT') return new Problem('storage-full');
  if (code === 'ERR_STREAM_PREMATURE_CLOSE' || code === 'ECONNRESET' || code === 'ABORT_ERR') return new Problem('upload-broken');
  return error;
}
