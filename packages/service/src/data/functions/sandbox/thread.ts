/**
 * Sandboxes of environments: a thread each, ended when it is idle or when a run goes over its limit in a way that no interrupt
 * reaches. Other environments have threads of their own, and do not notice.
 */
import { Worker } from 'node:worker_threads';
import { threadFile } from '../../../platform/threads/threadFile.js';
import type { FromThread, Limits, Program, RunFailure, RunResult, ToThread } from './messages.js';
import { LIMITS } from './messages.js';

/** Answers a call of a run: its name, and its arguments as JSON. @returns JSON, or an empty text for nothing */
export type Answering = (name: string, json: string) => Promise<string>;
type Waiting = { resolve: (result: RunResult) => void; answering: Answering; until: number; startedAt: number };

/** A slice that takes this much longer than a run may take in all is not interrupted any more: the thread is ended. */
const GRACE_MS = 150;
const LOOK_MS = 25;
const IDLE_MS = 60_000;

const failed = (reason: RunFailure['reason'], text: string, cpuUs = 0): RunResult => ({ failure: { reason, text }, cpuUs, log: [] });

class SandboxThread {
  readonly #clock = new Int32Array(new SharedArrayBuffer(8));
  readonly #began = Date.now();
  readonly #worker: Worker;
  readonly #runs = new Map<number, Waiting>();
  #look: NodeJS.Timeout | null = null;
  #next = 0;
  #idleSince = Date.now();
  ended = false;

  constructor(private readonly limits: Limits) {
    this.#worker = new Worker(threadFile(new URL('./worker.js', import.meta.url)), {
      workerData: { clock: this.#clock.buffer, began: this.#began },
      // QuickJS keeps its memory outside of this; what is here is ours.
      resourceLimits: { maxOldGenerationSizeMb: 128 },
      stdout: true,
      stderr: true,
    });
    this.#worker.on('message', (message: FromThread) => this.#hear(message));
    this.#worker.on('error', (error) => this.#lose(error.message));
    this.#worker.on('exit', () => this.#lose('its sandbox ended'));
    this.#worker.unref();
  }

  get idleMs(): number {
    return this.#runs.size > 0 ? 0 : Date.now() - this.#idleSince;
  }

  run(program: Program, argument: string, answering: Answering): Promise<RunResult> {
    const run = ++this.#next;
    this.#look ??= setInterval(() => this.#watch(), LOOK_MS);
    this.#worker.ref();
    return new Promise((resolve) => {
      const startedAt = Date.now();
      this.#runs.set(run, { resolve, answering, startedAt, until: startedAt + this.limits.wallMs });
      this.#tell({ say: 'run', run, program, argument, limits: this.limits });
    });
  }

  #tell(message: ToThread): void {
    this.#worker.postMessage(message);
  }

  #hear(message: FromThread): void {
    const waiting = this.#runs.get(message.run);
    if (!waiting) return;
    if (message.say === 'done') return this.#settle(message.run, message.result);
    const { run, call } = message;
    waiting.answering(message.name, message.json).then(
      (json) => this.#tell({ say: 'answer', run, call, ok: true, json }),
      (error) => this.#tell({ say: 'answer', run, call, ok: false, json: (error as Error).message }),
    );
  }

  #settle(run: number, result: RunResult): void {
    this.#runs.get(run)?.resolve(result);
    this.#runs.delete(run);
    if (this.#runs.size > 0) return;
    this.#idleSince = Date.now();
    if (this.#look) clearInterval(this.#look);
    this.#look = null;
    this.#worker.unref();
  }

  /** Ends runs that wait too long, and the thread itself where a run holds it. */
  #watch(): void {
    const since = Atomics.load(this.#clock, 0);
    const now = Date.now();
    if (since > 0 && now - this.#began - since > this.limits.cpuMs + GRACE_MS) {
      const guilty = Atomics.load(this.#clock, 1);
      this.#settle(
        guilty,
        failed('processor', `It used the processor for more than ${this.limits.cpuMs} ms.`, (now - this.#began - since) * 1000),
      );
      this.end('another run held the sandbox, which was ended');
      return;
    }
    for (const [run, { until }] of this.#runs)
      if (now > until)
        this.#tell({ say: 'stop', run, failure: { reason: 'time', text: `It took longer than ${this.limits.wallMs / 1000} s.` } });
  }

  #lose(why: string): void {
    this.ended = true;
    for (const run of [...this.#runs.keys()]) this.#settle(run, failed('ended', `It was ended: ${why}.`));
  }

  end(why: string): void {
    if (this.#look) clearInterval(this.#look);
    this.#look = null;
    this.#lose(why);
    void this.#worker.terminate();
  }
}

export class Sandboxes {
  readonly #threads = new Map<string, SandboxThread>();
  readonly #sweep: NodeJS.Timeout;

  constructor(private readonly limits: Limits = LIMITS) {
    this.#sweep = setInterval(() => this.#endIdle(), IDLE_MS / 2);
    this.#sweep.unref();
  }

  /** Runs a program for an environment; it never throws. */
  run(environmentId: string, program: Program, argument: string, answering: Answering): Promise<RunResult> {
    let thread = this.#threads.get(environmentId);
    if (!thread || thread.ended) {
      thread = new SandboxThread(this.limits);
      this.#threads.set(environmentId, thread);
    }
    return thread.run(program, argument, answering);
  }

  #endIdle(): void {
    for (const [id, thread] of this.#threads) {
      if (!thread.ended && thread.idleMs < IDLE_MS) continue;
      thread.end('it was idle');
      this.#threads.delete(id);
    }
  }

  close(): void {
    clearInterval(this.#sweep);
    for (const thread of this.#threads.values()) thread.end('the service stops');
    this.#threads.clear();
  }
}
