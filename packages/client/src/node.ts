/** For Node: the local copy and the session in files. */
import { appendFile, mkdir, open, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { dirname } from 'node:path';
import type { Json } from '@orchard/core';
import {
  type Backing,
  type Batch,
  type Conflict,
  FORMAT,
  type Loaded,
  type PendingChange,
  type QueuedFile,
  type Row,
} from './offline/types.js';
import type { Storage } from './storage.js';

/** Written anew when it has grown to so many times what it holds. */
const GROWN = 4;
const LEAST_LINES = 2_000;

/** The session of a program, in one file. */
export const fileStorage = (path: string): Storage => ({
  read: () => readFile(path, 'utf8').catch(() => null),
  write: async (value) => {
    if (value === null) return rm(path, { force: true });
    await mkdir(dirname(path), { recursive: true });
    await writeFile(`${path}.new`, value, { mode: 0o600 });
    await rename(`${path}.new`, path);
  },
});

/**
 * A local copy in a journal: one line of JSON for each batch. A last line that was cut by a crash never was acknowledged.
 * @param directory one file in it for each user
 */
export const fileStore =
  (directory: string) =>
  async (name: string): Promise<Backing> => {
    await mkdir(directory, { recursive: true });
    return new Journal(`${directory}/${name.replace(/[^\w.-]+/g, '_')}.ndjson`);
  };

class Journal implements Backing {
  readonly durable = true;
  readonly shared = false;
  #lines = 0;
  /** Records that it holds, by collection and id. */
  readonly #live = new Set<string>();
  #writing: Promise<unknown> = Promise.resolve();

  constructor(private readonly path: string) {}

  async load(): Promise<Loaded> {
    const text = await readFile(this.path, 'utf8').catch(() => '');
    const lines = text.split('\n');
    // The last line ends with a line feed when it was written whole.
    if (lines.at(-1) !== '')
      await writeFile(
        this.path,
        lines
          .slice(0, -1)
          .map((line) => `${line}\n`)
          .join(''),
      );
    const batches = lines.slice(0, -1).map((line) => JSON.parse(line) as Batch);
    const loaded = fold(batches);
    if (Number(loaded.facts.format ?? FORMAT) > FORMAT)
      throw Object.assign(new Error('The file is of a newer version.'), { name: 'VersionError' });
    this.#lines = batches.length;
    this.#note(loaded);
    return loaded;
  }

  commit(batch: Batch): Promise<void> {
    return this.#alone(async () => {
      if (this.#lines === 0) await appendFile(this.path, `${JSON.stringify({ facts: { format: FORMAT } })}\n`, { mode: 0o600 });
      await appendFile(this.path, `${await lineOf(batch)}\n`, { flush: (batch.pending?.length ?? 0) > 0 } as never);
      this.#lines += 1 + (batch.rows?.length ?? 0);
      this.#note(batch);
      if (this.#lines > LEAST_LINES + GROWN * this.#live.size) await this.#compact();
    });
  }

  /** One batch in place of all. */
  async #compact(): Promise<void> {
    const text = await readFile(this.path, 'utf8');
    const all = fold(
      text
        .split('\n')
        .slice(0, -1)
        .map((line) => JSON.parse(line) as Batch),
    );
    const file = await open(`${this.path}.new`, 'w', 0o600);
    await file.writeFile(`${await lineOf(all)}\n`);
    await file.sync();
    await file.close();
    await rename(`${this.path}.new`, this.path);
    this.#lines = 1 + this.#live.size;
  }

  #note({ rows = [], gone = [] }: Batch): void {
    for (const { collection, id } of rows) this.#live.add(`${collection}/${id}`);
    for (const { collection, id } of gone) this.#live.delete(`${collection}/${id}`);
  }

  clear(): Promise<void> {
    return this.#alone(async () => {
      await rm(this.path, { force: true });
      this.#lines = 0;
      this.#live.clear();
    });
  }

  async close(): Promise<void> {
    await this.#writing;
  }

  #alone<T>(work: () => Promise<T>): Promise<T> {
    const turn = this.#writing.then(work);
    this.#writing = turn.catch(() => undefined);
    return turn;
  }
}

/** Contents of files stand in the line as base64. */
type Kept = Omit<QueuedFile, 'content'> & { bytes: string; type: string };

async function lineOf({ files, ...batch }: Batch): Promise<string> {
  if (!files?.length) return JSON.stringify(batch);
  const kept = files.map(
    async ({ content, ...file }): Promise<Kept> => ({
      ...file,
      type: content.type,
      bytes: Buffer.from(await content.arrayBuffer()).toString('base64'),
    }),
  );
  return JSON.stringify({ ...batch, files: await Promise.all(kept) });
}
const contentOf = ({ bytes, type, ...file }: Kept): QueuedFile => ({
  ...file,
  content: new Blob([Buffer.from(bytes, 'base64')], { type }),
});

function fold(batches: readonly Batch[]): Loaded {
  const [rows, pending, conflicts] = [new Map<string, Row>(), new Map<string, PendingChange>(), new Map<string, Conflict>()];
  const files = new Map<string, QueuedFile>();
  const facts: Record<string, Json> = {};
  const key = (collection: string, id: string) => `${collection}/${id}`;
  for (const batch of batches) {
    for (const row of batch.rows ?? []) rows.set(key(row.collection, row.id), row);
    for (const { collection, id } of batch.gone ?? []) rows.delete(key(collection, id));
    for (const change of batch.pending ?? []) pending.set(change.id, change);
    for (const id of batch.done ?? []) pending.delete(id);
    for (const conflict of batch.conflicts ?? []) conflicts.set(conflict.id, conflict);
    for (const id of batch.settled ?? []) conflicts.delete(id);
    for (const file of (batch.files ?? []) as unknown as Kept[]) files.set(file.id, contentOf(file));
    for (const id of batch.sentFiles ?? []) files.delete(id);
    Object.assign(facts, batch.facts);
  }
  return {
    rows: [...rows.values()],
    pending: [...pending.values()],
    conflicts: [...conflicts.values()],
    files: [...files.values()],
    facts,
  };
}
