/**
 * Results of deliveries between the network's answer and the database: kept in a file, so that an instance that is killed in
 * between knows after its restart what it has sent already, and sends nothing twice.
 */
import { closeSync, existsSync, ftruncateSync, openSync, readFileSync, renameSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import type { DeliveryResult } from './deliveryStore.js';

type Entry = { environmentId: string; notification: string; result: DeliveryResult };
const NAME = 'results.journal';
/** Beyond this size, the file is rewritten with the waiting results. */
const MOST_BYTES = 8_000_000;

export class ResultJournal {
  readonly #path: string;
  #file: number;
  #bytes = 0;
  readonly #waiting = new Map<DeliveryResult, { line: string; receipt: string | null }>();
  /** Results that a receipt may still amend, by the name of that receipt. */
  readonly #amendable = new Map<string, Entry>();
  /** Lines of this turn of the event loop. */
  #turn = '';
  /** Results that the previous run had not written. */
  readonly left: readonly Entry[];

  constructor(directory: string) {
    this.#path = join(directory, NAME);
    this.left = readEntries(this.#path);
    this.#file = this.#rewrite(this.left.map(lineOf));
  }

  #rewrite(lines: readonly string[]): number {
    rmSync(`${this.#path}.new`, { force: true });
    // Appending, so that what comes after a truncation begins at the beginning.
    const fresh = openSync(`${this.#path}.new`, 'a', 0o600);
    const text = lines.join('');
    writeSync(fresh, text);
    renameSync(`${this.#path}.new`, this.#path);
    this.#bytes = text.length;
    return fresh;
  }

  /**
   * Records a result before anything else is done with it. Results of one turn of the event loop are written together at its
   * end; one that is lost before that was not acted on yet, as if the response had been lost on the wire.
   */
  note(environmentId: string, notification: string, result: DeliveryResult, gateway: string | null): void {
    const entry = { environmentId, notification, result };
    const receipt = result.receiptId && receiptName(environmentId, gateway, result.receiptId);
    if (receipt) this.#amendable.set(receipt, entry);
    this.#keep(entry, receipt);
  }

  #keep(entry: Entry, receipt: string | null): void {
    const line = lineOf(entry);
    this.#waiting.set(entry.result, { line, receipt });
    if (!this.#turn) setImmediate(() => this.#endTurn());
    this.#turn += line;
  }

  /**
   * Amends a result by its receipt while it waits to be written, so that both are written as one. What is amended is in
   * the file when the next turn begins.
   * @returns false when it is written already, or another instance's
   */
  amend(environmentId: string, gateway: string, receiptId: string, change: (result: DeliveryResult) => void): boolean {
    const receipt = receiptName(environmentId, gateway, receiptId);
    const entry = this.#amendable.get(receipt);
    if (!entry) return false;
    change(entry.result);
    this.#keep(entry, receipt);
    return true;
  }

  /** These are about to be written as they are. */
  seal(results: readonly DeliveryResult[]): void {
    for (const result of results) {
      const receipt = this.#waiting.get(result)?.receipt;
      if (receipt) this.#amendable.delete(receipt);
    }
  }

  #endTurn(): void {
    if (this.#turn) this.#bytes += writeSync(this.#file, this.#turn);
    this.#turn = '';
  }

  /** The database has these. */
  written(results: readonly DeliveryResult[]): void {
    for (const result of results) this.#waiting.delete(result);
    this.#endTurn();
    if (this.#bytes === 0 || (this.#waiting.size > 0 && this.#bytes < MOST_BYTES)) return;
    if (this.#waiting.size === 0) {
      ftruncateSync(this.#file);
      this.#bytes = 0;
      return;
    }
    closeSync(this.#file);
    this.#file = this.#rewrite([...this.#waiting.values()].map(({ line }) => line));
  }

  close(): void {
    this.#endTurn();
    closeSync(this.#file);
    if (this.#waiting.size === 0) rmSync(this.#path, { force: true });
  }
}

const receiptName = (environmentId: string, gateway: string | null, receiptId: string) => `${environmentId} ${gateway} ${receiptId}`;

/** A JSON array: the members of an entry in the order of {@link readLine}, times in milliseconds since 1970. */
function lineOf({ environmentId, notification, result }: Entry): string {
  const { target, state, reason, attempts, answer, said, messageId, receiptId, segments } = result;
  const times = [result.nextAttemptAt, result.sentAt, result.receivedAt].map((time) => time?.getTime() ?? null);
  const told = [environmentId, notification, target, state, reason, attempts, answer, said, messageId, receiptId, segments, ...times];
  return `${JSON.stringify(told)}\n`;
}

function readLine(line: string): Entry {
  const [environmentId, notification, target, state, reason, attempts, answer, said, messageId, receiptId, segments, next, sent, received] =
    JSON.parse(line);
  const at = (time: number | null) => (time === null ? null : new Date(time));
  const told = { target, state, reason, attempts, answer, said, messageId, receiptId, segments };
  return { environmentId, notification, result: { ...told, nextAttemptAt: at(next), sentAt: at(sent), receivedAt: at(received) } };
}

/**
 * The results in the file; the last line of a delivery counts. A line that was cut by the end of the process is the last
 * one, and its result was never acted on.
 */
function readEntries(path: string): Entry[] {
  const entries = new Map<string, Entry>();
  for (const line of existsSync(path) ? readFileSync(path, 'utf8').split('\n') : []) {
    try {
      const entry = readLine(line);
      entries.set(`${entry.environmentId} ${entry.notification} ${entry.result.target}`, entry);
    } catch {}
  }
  return [...entries.values()];
}
