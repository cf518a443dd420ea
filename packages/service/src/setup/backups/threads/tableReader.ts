/** Tables of a database as parts, read and packed by threads: one moment, in order, and no faster than they are taken. */
import { MessageChannel, Worker } from 'node:worker_threads';
import type { ArchivePart } from '@orchard/contract';
import type { BackupKey } from '../sealing.js';
import { threadFile } from '../../../platform/threads/threadFile.js';
import type { FromPacker, FromReader, Known, ReadTable, ToReader } from './messages.js';

/** ER_TABLE_DEF_CHANGED, ER_NO_SUCH_TABLE, ER_BAD_FIELD_ERROR: a table is not what it was at the moment that is read. */
const CHANGED = new Set([1412, 1146, 1054]);

/** Parts that are on their way at a time. */
const IN_FLIGHT = 2;

/** The tables changed while they were read; reading them from the start sees the new ones. */
export class TablesChanged extends Error {}

export type TakenPart = { table: string; part: ArchivePart; packed: Uint8Array | null };

export class TableReader {
  readonly #reader: Worker;
  readonly #packer: Worker;
  /** How many more parts may be on their way. */
  readonly #room = new Int32Array(new SharedArrayBuffer(4)).fill(IN_FLIGHT);
  readonly #asked = new Map<number, (rows: never) => void>();
  #questions = 0;
  #began: ((at: Date) => void) | null = null;
  #failure: Error | null = null;
  readonly #arrived: FromPacker[] = [];
  #onChange: (() => void) | null = null;

  /** @param known what is packed */
  constructor(url: string, key: BackupKey, known: Known) {
    const { port1, port2 } = new MessageChannel();
    this.#reader = new Worker(threadFile(new URL('./readerStore.js', import.meta.url)), {
      workerData: { url, packer: port1, room: this.#room },
      transferList: [port1],
    });
    this.#packer = new Worker(threadFile(new URL('./packer.js', import.meta.url)), {
      workerData: { key: key.hex, known, reader: port2 },
      transferList: [port2],
    });
    this.#reader.on('message', (message: FromReader) => this.#hear(message));
    this.#packer.on('message', (message: FromPacker) => {
      this.#arrived.push(message);
      this.#onChange?.();
    });
    for (const worker of [this.#reader, this.#packer]) worker.on('error', (error) => this.#fail(error));
  }

  #hear(message: FromReader): void {
    if (message.kind === 'began') this.#began?.(new Date(`${message.at.replace(' ', 'T')}Z`));
    else if (message.kind === 'rows') {
      this.#asked.get(message.id)?.(message.rows as never);
      this.#asked.delete(message.id);
    } else
      this.#fail(
        CHANGED.has(message.errno) ? new TablesChanged(message.text) : Object.assign(new Error(message.text), { code: message.code }),
      );
  }

  #fail(error: Error): void {
    this.#failure ??= error;
    this.#onChange?.();
  }

  #tell(message: ToReader): void {
    this.#reader.postMessage(message);
  }

  /** Waits for an answer of the reader, or its failure. */
  #until<T>(ask: (resolve: (value: T) => void) => void): Promise<T> {
    return new Promise((resolve, reject) => {
      this.#onChange = () => this.#failure && reject(this.#failure);
      ask(resolve);
      this.#onChange();
    });
  }

  /** @returns the moment that is read from now on */
  begin(): Promise<Date> {
    return this.#until((resolve) => {
      this.#began = resolve;
      this.#tell({ kind: 'begin' });
    });
  }

  /** Asks something of that moment; rows as arrays of values. */
  query<Row extends unknown[]>(sql: string, values: unknown[] = []): Promise<Row[]> {
    return this.#until((resolve) => {
      const id = ++this.#questions;
      this.#asked.set(id, resolve as never);
      this.#tell({ kind: 'query', id, sql, values });
    });
  }

  /** The parts of one table. @returns how many rows it has @throws TablesChanged */
  async *read(table: ReadTable): AsyncGenerator<TakenPart, number> {
    this.#tell({ kind: 'read', table });
    for (;;) {
      if (this.#failure) throw this.#failure;
      const next = this.#arrived.shift();
      if (!next) {
        await new Promise<void>((resolve) => {
          this.#onChange = resolve;
        });
        continue;
      }
      if ('end' in next) return next.end;
      yield next;
      Atomics.add(this.#room, 0, 1);
      Atomics.notify(this.#room, 0);
    }
  }

  async close(): Promise<void> {
    await Promise.all([this.#reader.terminate(), this.#packer.terminate()]);
  }
}
