/** The installation that an environment moves to, as an arrival there answers. See packages/contract/src/operations/arrivals.ts. */
import { createReadStream } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import { Readable } from 'node:stream';
import {
  type ArrivalProgress,
  type CallInput,
  createHttpClient,
  type HttpClient,
  operations,
  Problem,
  type RawBody,
} from '@orchard/contract';
import { type Place, PlaceProblem } from '../backups/places/place.js';
import type { TableChange } from '../arrivals/rowWriterStore.js';

const own = operations.arrivals;
/** A call that may be repeated is tried this often, and waits longer each time. */
const TRIES = 5;
const WAIT_MS = 500;
const TIMEOUT_MS = 60_000;
const DIGESTS_AT_ONCE = 5_000;

export class OtherInstallation {
  readonly #client: HttpClient;

  constructor(
    readonly address: string,
    ticket: string,
  ) {
    this.#client = createHttpClient({ address, headers: () => ({ authorization: `Bearer ${ticket}` }) });
  }

  /** Every call of an arrival may be repeated. @throws {Problem} what it answers, moved-installation-away */
  async #call<O extends Parameters<HttpClient['call']>[0]>(operation: O, input: CallInput<O>, tries = TRIES, timeoutMs = TIMEOUT_MS) {
    return this.#patiently(() => this.#client.call(operation, { ...input, signal: AbortSignal.timeout(timeoutMs) } as CallInput<O>), tries);
  }

  async #patiently<T>(ask: () => Promise<T>, tries = TRIES): Promise<T> {
    for (let tried = 1; ; tried++) {
      try {
        return await ask();
      } catch (error) {
        const waitMs = error instanceof Problem ? (error.extras.retryAfterS ?? 0) * 1000 : WAIT_MS * 2 ** (tried - 1);
        // What it refused, it refuses again.
        if (error instanceof Problem && waitMs === 0) throw error;
        if (tried === tries) throw error instanceof Problem ? error : this.#away(error);
        await sleep(waitMs);
      }
    }
  }

  #away(error: unknown): Problem {
    const { message, cause } = error as Error & { cause?: { code?: string } };
    return new Problem(
      'moved-installation-away',
      `${this.address} does not answer (${cause?.code ?? message}). Check that it runs, and that this installation reaches it.`,
    );
  }

  announce(body: { app: string; environment: string; id: string; migration: number }): Promise<ArrivalProgress> {
    return this.#call(own.announce, { body });
  }

  state(): Promise<ArrivalProgress> {
    return this.#call(own.state, {});
  }

  load(backup: string): Promise<ArrivalProgress> {
    return this.#call(own.load, { body: { backup } });
  }

  changes(tables: TableChange[], tries?: number): Promise<void> {
    return this.#call(own.changes, { body: { tables: tables.map(written) as never } }, tries);
  }

  async missing(digests: readonly string[]): Promise<string[]> {
    const missing: string[] = [];
    for (let at = 0; at < digests.length; at += DIGESTS_AT_ONCE)
      missing.push(...(await this.#call(own.missing, { body: { digests: digests.slice(at, at + DIGESTS_AT_ONCE) } })).missing);
    return missing;
  }

  async content(digest: string, file: string): Promise<void> {
    await this.#patiently(() => this.#put(own.content, { digest }, Readable.toWeb(createReadStream(file)) as never));
  }

  /** Answered once: whoever does not hear the answer asks for the state. */
  finish(body: { setup: string[]; counts: { table: string; rows: number }[] }, timeoutMs: number): Promise<ArrivalProgress> {
    return this.#call(own.finish, { body }, 1, timeoutMs);
  }

  giveUp(): Promise<ArrivalProgress> {
    return this.#call(own.giveUp, {});
  }

  async #put(operation: typeof own.content | typeof own.writeFile, params: Record<string, string>, raw: RawBody): Promise<void> {
    await this.#client.open(operation as typeof own.content, {
      params: params as never,
      raw: raw as never,
      headers: { 'content-type': 'application/octet-stream' },
    });
  }

  /** Its archive, which is written and listed, and read there alone. */
  get place(): Place {
    const unread = () => Promise.reject(new PlaceProblem('refused', 'The archive of a move is read where it arrives.'));
    return {
      words: this.address,
      list: async (folder) => (await this.#call(own.files, { query: { folder } })).items,
      read: unread,
      stream: unread,
      write: (path, content) => {
        if (!Buffer.isBuffer(content)) return unread();
        return this.#patiently(() => this.#put(own.writeFile, { path }, new Uint8Array(content)));
      },
      size: unread,
      remove: unread,
      close: async () => undefined,
    };
  }
}

/** Bytes as base64 (RFC 4648 section 4). */
const written = ({ rows, ...change }: TableChange) => ({
  ...change,
  rows: rows.map((values) => values.map((value) => (Buffer.isBuffer(value) ? { base64: value.toString('base64') } : value))),
});
