/** Fills tables by a thread. */
import { Worker } from 'node:worker_threads';
import type { ArchivePart } from '@orchard/contract';
import type { BackupKey } from '../sealing.js';
import { threadFile } from '../../../platform/threads/threadFile.js';
import type { FromLoader, ReadColumn, ToLoader } from './messages.js';

/** A part is not what it was when the backup was made. */
export class DamagedPart extends Error {}

export class TableLoader {
  readonly #worker: Worker;
  readonly #waiting: { resolve: () => void; reject: (error: Error) => void }[] = [];
  #failure: Error | null = null;

  constructor(url: string, key: BackupKey, behind: boolean) {
    this.#worker = new Worker(threadFile(new URL('./loaderStore.js', import.meta.url)), { workerData: { url, key: key.hex, behind } });
    this.#worker.on('message', (message: FromLoader) => {
      const waiting = this.#waiting.shift();
      if (message.kind === 'ready') return waiting?.resolve();
      const error = message.damaged ? new DamagedPart(message.text) : new Error(message.text);
      this.#failure ??= error;
      waiting?.reject(error);
    });
    this.#worker.on('error', (error) => {
      this.#failure ??= error;
      for (const { reject } of this.#waiting.splice(0)) reject(error);
    });
  }

  #ask(message: ToLoader, transfer: ArrayBuffer[] = []): Promise<void> {
    if (this.#failure) return Promise.reject(this.#failure);
    return new Promise((resolve, reject) => {
      this.#waiting.push({ resolve, reject });
      this.#worker.postMessage(message, transfer);
    });
  }

  table(name: string, into: string, columns: ReadColumn[]): Promise<void> {
    return this.#ask({ kind: 'table', name, into, columns });
  }

  part(part: ArchivePart, packed: Buffer): Promise<void> {
    return this.#ask({ kind: 'part', part, packed });
  }

  /** Lines as a reader made them. */
  lines(content: Uint8Array): Promise<void> {
    return this.#ask({ kind: 'lines', content }, [content.buffer as ArrayBuffer]);
  }

  /** All of the table is there, and committed. */
  end(): Promise<void> {
    return this.#ask({ kind: 'end' });
  }

  async close(): Promise<void> {
    await this.#worker.terminate();
  }
}
