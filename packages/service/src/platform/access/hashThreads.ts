/**
 * Threads of a lower priority for hashing passwords. A hash keeps a core busy for some twenty milliseconds by design; on the
 * threads that Node shares for files and names, or at the priority of all others, many sign-ins would hold up every call.
 */
import { availableParallelism } from 'node:os';
import { fileURLToPath } from 'node:url';
import { Worker } from 'node:worker_threads';

/** `against`: the hash that the password is checked by; null to make one. */
export type HashTask = { password: string; against: string | null };
export type HashAnswer = { value: string | boolean } | { failed: string };
type Waiting = HashTask & { resolve: (value: never) => void; reject: (error: Error) => void };

const MOST = Math.max(2, Math.min(4, availableParallelism()));
/** Tests run the sources; the thread is always the built file. */
const workerFile = (): string => fileURLToPath(new URL('./hashWorker.js', import.meta.url)).replace(/\/src\/(platform\/)/, '/dist/$1');

class HashThreads {
  readonly #idle: Worker[] = [];
  readonly #queue: Waiting[] = [];
  /** What each thread works on: one password at a time. */
  readonly #busy = new Map<Worker, Waiting>();

  run<Value extends string | boolean>(password: string, against: string | null): Promise<Value> {
    return new Promise<Value>((resolve, reject) => {
      this.#queue.push({ password, against, resolve: resolve as Waiting['resolve'], reject });
      this.#hand();
    });
  }

  #hand(): void {
    const task = this.#queue[0];
    const worker = task && (this.#idle.pop() ?? (this.#busy.size < MOST ? this.#start() : undefined));
    if (!task || !worker) return;
    this.#queue.shift();
    this.#busy.set(worker, task);
    worker.ref();
    const { password, against } = task;
    worker.postMessage({ password, against } satisfies HashTask);
  }

  #start(): Worker {
    const worker = new Worker(workerFile(), { resourceLimits: { maxOldGenerationSizeMb: 24, maxYoungGenerationSizeMb: 2 } });
    worker.on('message', (answer: HashAnswer) => {
      const task = this.#busy.get(worker);
      this.#busy.delete(worker);
      if ('failed' in answer) task?.reject(new Error(answer.failed));
      else task?.resolve(answer.value as never);
      // An idle thread keeps no process alive.
      worker.unref();
      this.#idle.push(worker);
      this.#hand();
    });
    worker.on('error', (error) => this.#lose(worker, error));
    return worker;
  }

  /** A thread has died: whoever waits for it is told, and the next password gets another one. */
  #lose(worker: Worker, error: Error): void {
    this.#busy.get(worker)?.reject(error);
    this.#busy.delete(worker);
    const at = this.#idle.indexOf(worker);
    if (at >= 0) this.#idle.splice(at, 1);
    this.#hand();
  }
}

const threads = new HashThreads();
export const hashInThread = (password: string): Promise<string> => threads.run<string>(password, null);
export const matchesInThread = (against: string, password: string): Promise<boolean> => threads.run<boolean>(password, against);
