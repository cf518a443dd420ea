/** Server-sent events (HTML standard section 9.2) to one reader, never faster than it reads. */
import type { Request, Response } from 'express';
import type { ChangeSignal } from './changeSignal.js';

/** Beyond this, a reader that takes nothing is cut off; it can resume with Last-Event-ID. */
const PATIENCE_MS = 30_000;

export class EventStream {
  /** Since when the reader has had no room, in milliseconds since 1970; 0 while it has. */
  #fullSince = 0;
  #ended = false;
  readonly #onEnd: (() => void)[] = [];

  constructor(
    request: Request,
    private readonly response: Response,
    changes: ChangeSignal,
    private readonly now: () => number,
  ) {
    response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' });
    response.flushHeaders();
    response.on('drain', () => {
      this.#fullSince = 0;
    });
    this.#onEnd.push(changes.onClose(() => this.end()));
    request.once('close', () => this.end());
    response.once('error', () => this.end());
  }

  get hasRoom(): boolean {
    return !this.#ended && this.#fullSince === 0;
  }

  /** Sends one event. @returns whether there is room for another */
  send(text: string): boolean {
    if (this.#ended) return false;
    if (!this.response.write(text) && this.#fullSince === 0) this.#fullSince = this.now();
    return this.#fullSince === 0;
  }

  /** Cuts off a reader that has taken nothing for too long. */
  cutIfStuck(): boolean {
    if (this.#fullSince === 0 || this.now() - this.#fullSince < PATIENCE_MS) return false;
    this.response.destroy();
    this.end();
    return true;
  }

  onEnd(ended: () => void): void {
    this.#onEnd.push(ended);
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
