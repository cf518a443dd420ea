/**
 * Threads of a lower priority for hashing passwords. A hash keeps a core busy for some twenty milliseconds by design; on the
 * threads that Node shares for files and names, or at the priority of all others, many sign-ins would hold up every call.
 */
import { availableParallelism } from 'node:os';
import { fileURLToPath } from 'node:url';
import { Worker } from 'node:worker_threads';

/** `against`: the hash that the password is checked by; null to make one. */
export type HashTask = { id: number; password: string; against: string | null };
export type HashAnswer = { id: number; value: string | boolean } | { id: number; failed: string };
type Waiting = { resolve: (value: never) => void; reject: (error: Error) => void };

const MOST = Math.max(2, Math.min(4, availableParallelism()));
/** Tests run the sources; the thread is always the built file. */
const workerFile = (): string => fileURLToPath(new URL('./hashWorker.js', import.meta.url)).replace(/\/src\/(platform\/)/, '/dist/$1');

class HashThreads {
  readonly #idle: Worker[] = [];
  readonly #queue: HashTask[] = [];
  readonly #waiting = new Map<number, Waiting>();
  #started = 0;
  #next = 1;

  run<Value extends string | boolean>(password: string, against: string | null): Promise<Value> {
    const task = { id: this.#next++, password, against };
    return new Promise<Value>((resolve, reject) => {
      this.#waiting.set(task.id, { resolve: resolve as Waiting['resolve'], reject });
      this.#queue.push(task);
      this.#hand();
    });
  }

  #hand(): void {
    const task = this.#queue[0];
    const worker = task && (this.#idle.pop() ?? (this.#started < MOST ? this.#start() : undefined));
    if (!task || !worker) return;
    this.#queue.shift();
    worker.ref();
    worker.postMessage(task);
  }

  #start(): Worker {
    this.#started++;
    const worker = new Worker(workerFile(), { resourceLimits: { maxOldGenerationSizeMb: 24, maxYoungGenerationSizeMb: 2 } });
    worker.on('message', (answer: HashAnswer) => {
      const waiting = this.#waiting.get(answer.id);
      this.#waiting.delete(answer.id);
      if ('failed' in answer) waiting?.reject(new Error(answer.failed));
      else waiting?.resolve(answer.value as never);
      // An idle thread keeps no process alive.
      worker.unref();
      this.#idle.push(worker);
      this.#hand();
    });
    worker.on('error', (error) => this.#lose(error));
    return worker;
  }

  /** A thread has died: what it worked on is not known, so all that wait are told, and the next call starts another one. */
  #lose(error: Error): void {
    this.#started--;
    for (const { reject } of this.#waiting.values()) reject(error);
    this.#waiting.clear();
    this.#queue.length = 0;
  }
}

const threads = new HashThreads();
export const hashInThread = (password: string): Promise<string> => threads.run<string>(password, null);
export const matchesInThread = (against: string, password: string): Promise<boolean> => threads.run<boolean>(password, against);
