/**
 * Results of deliveries between the network's answer and the database: kept in a file, so that an instance that is
 * killed in between knows after its restart what it has sent already, and sends it to nobody twice.
 */
import { closeSync, existsSync, ftruncateSync, openSync, readFileSync, renameSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import type { DeliveryResult } from './deliveries.js';

type Entry = { environmentId: string; notification: string; result: DeliveryResult };
const NAME = 'results.journal';
/** Beyond this, the file is written anew with what still waits. */
const MOST_BYTES = 8_000_000;

export class ResultJournal {
  readonly #path: string;
  #file: number;
  #bytes = 0;
  readonly #waiting = new Map<DeliveryResult, string>();
  /** What the instance before this one had not written. */
  readonly left: readonly Entry[];

  constructor(directory: string) {
    this.#path = join(directory, NAME);
    this.left = readEntries(this.#path);
    this.#file = this.#rewrite(this.left.map((entry) => JSON.stringify(entry)));
  }

  #rewrite(lines: readonly string[]): number {
    rmSync(`${this.#path}.new`, { force: true });
    // Appending, so that what comes after a truncation begins at the beginning.
    const fresh = openSync(`${this.#path}.new`, 'a', 0o600);
    const text = lines.map((line) => `${line}\n`).join('');
    writeSync(fresh, text);
    renameSync(`${this.#path}.new`, this.#path);
    this.#bytes = text.length;
    return fresh;
  }

  /** Notes a result before anything else is done with it. */
  note(environmentId: string, notification: string, result: DeliveryResult): void {
    const line = JSON.stringify({ environmentId, notification, result } satisfies Entry);
    this.#waiting.set(result, line);
    // At once: an answer that waits for company would be lost with the process.
    this.#bytes += writeSync(this.#file, `${line}\n`);
  }

  /** The database has these. */
  written(results: readonly DeliveryResult[]): void {
    for (const result of results) this.#waiting.delete(result);
    if (this.#bytes === 0 || (this.#waiting.size > 0 && this.#bytes < MOST_BYTES)) return;
    if (this.#waiting.size === 0) {
      ftruncateSync(this.#file);
      this.#bytes = 0;
      return;
    }
    closeSync(this.#file);
    this.#file = this.#rewrite([...this.#waiting.values()]);
  }

  close(): void {
    closeSync(this.#file);
    if (this.#waiting.size === 0) rmSync(this.#path, { force: true });
  }
}

/** A line that was cut by the end of the process is the last one, and its result was never acted on. */
function readEntries(path: string): Entry[] {
  if (!existsSync(path)) return [];
  return readFileSync(path, 'utf8')
    .split('\n')
    .flatMap((line) => {
      try {
        const entry = JSON.parse(line) as Entry;
        const { nextAttemptAt, sentAt } = entry.result;
        return [
          {
            ...entry,
            result: { ...entry.result, nextAttemptAt: nextAttemptAt && new Date(nextAttemptAt), sentAt: sentAt && new Date(sentAt) },
          },
        ];
      } catch {
        return [];
      }
    });
}
