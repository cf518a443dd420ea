/** The contents of an environment's files: kept, read, verified, and removed when nothing has them any more. */
import { readFile } from 'node:fs/promises';
import { Problem } from '@orchard/contract';
import { LRUCache } from 'lru-cache';
import type { Environment } from '../../platform/call.js';
import { FILES } from '../collections/filesShape.js';
import { type Arrived, FileBytes, type Limit } from './bytes.js';
import {
  type ContentHolder,
  contentsToVerify,
  dropContent,
  endDeleted,
  noteContent,
  noteDay,
  noteVerified,
  noteWhole,
  storedContents,
  unusedContents,
} from './fileStore.js';
import type { Parts } from './parts.js';
import { fileSettings } from './settings.js';
import { awaitedUploads, endUploads } from './uploadStore.js';

const DAY_MS = 86_400_000;
/** How long a content that nothing has stays: what is being stored refers to it soon. */
const UNUSED_MS = DAY_MS;
/** How often each content is read and compared with its digest, and how many bytes of them at a time. */
const VERIFY_EVERY_MS = 30 * DAY_MS;
const VERIFY_BYTES = 2 ** 30;
const VERIFY_AT_ONCE = 200;

/** How much of what was read lately stays in memory, and what one costs beside its bytes. */
const [KEPT_BYTES, OWN_BYTES] = [8 * 1024 * 1024, 200];

export class Contents {
  readonly bytes: FileBytes;
  /** By environment and digest: a content never changes. */
  readonly #readLately = new LRUCache<string, Buffer>({ maxSize: KEPT_BYTES, sizeCalculation: ({ length }) => length + OWN_BYTES });
  /** Later rooms add their own. */
  readonly holders: ContentHolder[] = [];

  constructor(private readonly parts: Parts) {
    this.bytes = new FileBytes(parts.config.filesDirectory);
  }

  /** The most one file takes. @throws {Problem} file-too-large */
  async limitOf(environment: Environment, most = Number.POSITIVE_INFINITY): Promise<Limit> {
    const { fileBytes } = await fileSettings.read(environment);
    const bytes = Math.min(fileBytes, most);
    return {
      bytes,
      refuse: () => new Problem('file-too-large', `A file has at most ${bytes.toLocaleString('en')} bytes here. Nothing was stored.`),
    };
  }

  /** Gives an arrived content its place. From then on it stays for a day at least, and as long as a file has it. */
  async keep(environment: Environment, arrived: Arrived): Promise<void> {
    const now = new Date(this.parts.now());
    await noteContent(environment.db, environment, arrived.digest, arrived.size, now);
    await this.bytes.keep(environment.id, arrived);
    await noteWhole(environment.db, environment, arrived.digest, now);
  }

  /** Every content that is stored. */
  all(environment: Environment): Promise<{ digest: string; size: number; damaged: boolean }[]> {
    return storedContents(environment);
  }

  /** A small content, all at once; null where it is missing, or not of its size. */
  async whole(environment: Environment, { digest, size }: { digest: string; size: number }): Promise<Buffer | null> {
    const key = `${environment.id} ${digest}`;
    const known = this.#readLately.get(key);
    if (known) return known;
    const body = await readFile(this.bytes.place(environment.id, digest)).catch((error: NodeJS.ErrnoException) => {
      if (error.code === 'ENOENT') return null;
      throw error;
    });
    if (body?.length !== size) return null;
    this.#readLately.set(key, body);
    return body;
  }

  /** What is done about files every hour. */
  async tend(environment: Environment): Promise<void> {
    const shape = await this.parts.catalogue.find(environment, FILES);
    if (!shape) return;
    const now = this.parts.now();
    const { keepDeletedDays } = await fileSettings.read(environment);
    while ((await endDeleted(environment, new Date(now - keepDeletedDays * DAY_MS))) > 0);
    const unused = new Date(now - UNUSED_MS);
    for (const digest of await unusedContents(environment, shape, this.holders, unused))
      await dropContent(environment, shape, this.holders, digest, unused, () => this.bytes.forget(environment.id, digest));
    await endUploads(environment, new Date(now));
    const awaited = await awaitedUploads(environment);
    await this.bytes.sweep(environment.id, now - UNUSED_MS, (name) => awaited.has(name));
    await this.verify(environment);
    await noteDay(environment, shape, new Date(now).toISOString().slice(0, 10));
  }

  /** Reads what was not read for long, and notes what is not as it was stored. */
  async verify(environment: Environment, before = new Date(this.parts.now() - VERIFY_EVERY_MS)): Promise<void> {
    let read = 0;
    for (const { digest, size } of await contentsToVerify(environment, before, VERIFY_AT_ONCE)) {
      if (read > VERIFY_BYTES) return;
      read += Number(size);
      const isWhole = (await this.bytes.digestOf(environment.id, digest)) === digest;
      await this.noteVerified(environment, digest, isWhole);
    }
  }

  async noteVerified(environment: Environment, digest: string, isWhole: boolean): Promise<void> {
    await noteVerified(environment, digest, isWhole, new Date(this.parts.now()));
    if (isWhole) return;
    this.parts.ports.logEntry(environment, {
      level: 'error',
      source: 'service',
      text: `The content ${digest} is not as it was stored, or is missing. Files, Storage lists the files that have it; storing one of them again puts it right.`,
      fields: { digest },
    });
  }
}
