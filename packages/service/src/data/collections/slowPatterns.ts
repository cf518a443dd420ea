/** Old patterns that need backtracking: matched in a separate thread with a time limit, until the team has replaced them. */
import { once } from 'node:events';
import { Worker } from 'node:worker_threads';

export const LIMIT_MS = 200;
const CODE = `const { parentPort } = require('node:worker_threads');
parentPort.on('message', ({ pattern, text }) => parentPort.postMessage(new RegExp('^(?:' + pattern + ')$', 'u').test(text)));`;

/** One thread, one text at a time; a thread that takes too long is terminated. */
export class SlowPatterns {
  #worker: Worker | null = null;
  #queue: Promise<unknown> = Promise.resolve();

  /** Whether the whole text matches; null after the time limit. */
  matches(pattern: string, text: string): Promise<boolean | null> {
    const answer = this.#queue.then(() => this.#ask(pattern, text));
    this.#queue = answer;
    return answer;
  }

  /** A running thread: the limit is for matching, not for starting a thread on a busy machine. */
  async #thread(): Promise<Worker> {
    if (this.#worker) return this.#worker;
    const worker = new Worker(CODE, { eval: true });
    await once(worker, 'online');
    worker.unref();
    this.#worker = worker;
    return worker;
  }

  async #ask(pattern: string, text: string): Promise<boolean | null> {
    const worker = await this.#thread();
    return new Promise((resolve) => {
      const end = (answer: boolean | null) => {
        clearTimeout(timer);
        worker.removeAllListeners();
        if (answer === null) {
          this.#worker = null;
          void worker.terminate();
        }
        resolve(answer);
      };
      const timer = setTimeout(() => end(null), LIMIT_MS);
      worker.once('message', end);
      worker.once('error', () => end(null));
      worker.postMessage({ pattern, text });
    });
  }
}
