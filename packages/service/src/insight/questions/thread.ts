/** One thread that answers questions, and the calls to it. */
import { type TransferListItem, Worker } from 'node:worker_threads';
import { threadFile } from '../../platform/threads/threadFile.js';
import type { CallName, Calls, FromThread, ToThread } from './spec.js';

type Waiting = { resolve: (answer: never) => void; reject: (error: Error) => void };

export class QuestionThread {
  readonly #worker: Worker;
  #next = 1;
  readonly #waiting = new Map<number, Waiting>();
  /** Questions that it looks through days for. */
  questions = 0;

  /** @param lost told when the thread dies; its calls fail by themselves */
  constructor(lost: (error: Error) => void) {
    this.#worker = new Worker(threadFile(new URL('./worker.js', import.meta.url)));
    this.#worker.unref();
    const end = (error: Error) => {
      this.#fail(error);
      lost(error);
    };
    this.#worker.on('message', (message: FromThread) => this.#hear(message));
    this.#worker.on('error', end);
    this.#worker.on('exit', (code) => end(new Error(`the thread for questions ended with ${code}`)));
  }

  tell(message: Exclude<ToThread, { ticket: number }>): void {
    this.#worker.postMessage(message);
  }

  call<Name extends CallName>(
    call: Name,
    asked: Calls[Name]['asked'],
    transfer: readonly TransferListItem[] = [],
  ): Promise<Calls[Name]['answer']> {
    const ticket = this.#next++;
    return new Promise((resolve, reject) => {
      this.#waiting.set(ticket, { resolve, reject });
      this.#worker.postMessage({ call, ticket, asked }, transfer);
    });
  }

  #hear(message: FromThread): void {
    const waiting = this.#waiting.get(message.ticket);
    this.#waiting.delete(message.ticket);
    if ('failed' in message) waiting?.reject(new Error(message.failed));
    else waiting?.resolve(message.answer as never);
  }

  #fail(error: Error): void {
    for (const { reject } of this.#waiting.values()) reject(error);
    this.#waiting.clear();
  }

  async stop(): Promise<void> {
    this.#worker.removeAllListeners('exit');
    await this.#worker.terminate();
    this.#fail(new Error('The service stops.'));
  }
}
