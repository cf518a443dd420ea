/** Threads that each work on some tasks at a time, started when there is something to do. */
import { Worker, type WorkerOptions } from 'node:worker_threads';

/** What a thread makes of a task. */
export type ThreadAnswer<Value> = { value: Value } | { failed: string };
type Waiting<Task, Value> = { task: Task; resolve: (value: Value) => void; reject: (error: Error) => void };
export type PoolOptions = {
  /** Threads at most. */
  most: number;
  /** Tasks that go to a thread together. It answers with as many, in order. */
  together: number;
  limits?: WorkerOptions['resourceLimits'];
};

/** The thread died: what it was given may be given to another. */
export class ThreadLost extends Error {}

export class ThreadPool<Task, Value> {
  readonly #idle: Worker[] = [];
  readonly #queue: Waiting<Task, Value>[] = [];
  readonly #busy = new Map<Worker, Waiting<Task, Value>[]>();
  #isHanding = false;

  constructor(
    private readonly file: string,
    private readonly options: PoolOptions,
  ) {}

  /** @throws Error with the message of the thread's own failure; ThreadLost where the thread died */
  run(task: Task): Promise<Value> {
    return new Promise<Value>((resolve, reject) => {
      this.#queue.push({ task, resolve, reject });
      this.#handSoon();
    });
  }

  /** What is asked for in one turn goes together. */
  #handSoon(): void {
    if (this.#isHanding) return;
    this.#isHanding = true;
    setImmediate(() => {
      this.#isHanding = false;
      while (this.#queue.length > 0 && this.#hand());
    });
  }

  /** @returns whether a thread was free */
  #hand(): boolean {
    const { most, together } = this.options;
    const free = most - this.#busy.size;
    if (free <= 0) return false;
    const worker = this.#idle.pop() ?? this.#start();
    // Few tasks are shared out over all threads that are free.
    const tasks = this.#queue.splice(0, Math.min(together, Math.ceil(this.#queue.length / free)));
    this.#busy.set(worker, tasks);
    worker.ref();
    worker.postMessage(tasks.map(({ task }) => task));
    return true;
  }

  #start(): Worker {
    const worker = new Worker(this.file, { ...(this.options.limits ? { resourceLimits: this.options.limits } : {}) });
    worker.on('message', (answers: ThreadAnswer<Value>[]) => {
      const tasks = this.#busy.get(worker) ?? [];
      this.#busy.delete(worker);
      for (const [at, answer] of answers.entries()) {
        if ('failed' in answer) tasks[at]?.reject(new Error(answer.failed));
        else tasks[at]?.resolve(answer.value);
      }
      // An idle thread keeps no process alive.
      worker.unref();
      this.#idle.push(worker);
      if (this.#queue.length > 0) this.#handSoon();
    });
    worker.on('error', (error) => this.#lose(worker, error));
    return worker;
  }

  /** A thread has died: whoever waits for it is told, and the next tasks get another one. */
  #lose(worker: Worker, error: Error): void {
    for (const { reject } of this.#busy.get(worker) ?? []) reject(new ThreadLost(error.message));
    this.#busy.delete(worker);
    const at = this.#idle.indexOf(worker);
    if (at >= 0) this.#idle.splice(at, 1);
    this.#handSoon();
  }
}
