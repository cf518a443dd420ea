/** Server-sent events (HTML standard section 9.2) to one reader, with back-pressure. */
import type { Problem } from '@orchard/contract';
import type { Response } from 'express';
import type { Call } from '../call.js';
import type { Platform } from '../platform.js';

/** After this, a reader that reads nothing is disconnected; it can resume with Last-Event-ID. */
const PATIENCE_MS = 30_000;
/** HTML standard section 9.2.7: a comment this often keeps proxies from ending a stream, and tells its reader that it stands. */
const COMMENT_MS = 15_000;
/** How long a reader has to read the end of its stream. */
const LAST_WORD_MS = 5_000;

export class EventStream {
  /** When the reader's buffer became full, in milliseconds since 1970; 0 while it has room. */
  #fullSince = 0;
  #ended = false;
  /** Whether something was sent since the latest comment was due. */
  #spoke = true;
  readonly #onEnd: (() => void)[] = [];

  private readonly response: Response;
  private readonly now: () => number;

  constructor(
    call: Pick<Call, 'request' | 'response' | 'holder' | 'user' | 'member' | 'environment' | 'operation'>,
    parts: Pick<Platform, 'changes' | 'now' | 'streams'>,
  ) {
    const { request, response } = call;
    this.response = response;
    this.now = parts.now;
    response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' });
    response.flushHeaders();
    response.on('drain', () => {
      this.#fullSince = 0;
    });
    this.#onEnd.push(
      parts.changes.onClose(() => this.end()),
      parts.streams.watch(this, call),
    );
    const commenting = setInterval(() => this.#comment(), COMMENT_MS).unref();
    this.#onEnd.push(() => clearInterval(commenting));
    request.once('close', () => this.end());
    response.once('error', () => this.end());
  }

  get hasRoom(): boolean {
    return !this.#ended && this.#fullSince === 0;
  }

  /** Sends one event. @returns whether there is room for another */
  send(text: string): boolean {
    if (this.#ended) return false;
    this.#spoke = true;
    if (!this.response.write(text) && this.#fullSince === 0) this.#fullSince = this.now();
    return this.#fullSince === 0;
  }

  #comment(): void {
    if (!this.#spoke && this.hasRoom) this.response.write(':\n\n');
    this.#spoke = false;
  }

  /** Disconnects a reader that has read nothing for too long. */
  cutIfStuck(): boolean {
    if (this.#fullSince === 0 || this.now() - this.#fullSince < PATIENCE_MS) return false;
    this.response.destroy();
    this.end();
    return true;
  }

  onEnd(ended: () => void): void {
    if (this.#ended) ended();
    else this.#onEnd.push(ended);
  }

  /** Ends the stream because its reader's rights have ended, and says why. */
  endFor(reason: Problem): void {
    if (this.#ended) return;
    const { type, title, status, detail } = reason.toDocument();
    // Without an id: there is nothing to resume.
    this.response.write(`event: ended\ndata: ${JSON.stringify({ type, title, status, detail })}\n\n`);
    this.end();
    setTimeout(() => this.response.destroy(), LAST_WORD_MS).unref();
  }

  end(): void {
    if (this.#ended) return;
    this.#ended = true;
    for (const ended of this.#onEnd) ended();
    this.response.end();
  }
}

/** One event; without data it only moves the reader's Last-Event-ID. */
export const eventText = (event: string | null, id: number, data?: string): string =>
  `${event ? `event: ${event}\n` : ''}id: ${id}\n${data === undefined ? '' : `data: ${data}\n`}\n`;
