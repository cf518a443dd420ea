/**
 * The thread of a sandbox: QuickJS in WebAssembly, an instance for each run that is under way, and nothing kept from one run to the
 * next. While a run uses the processor, the thread notes since when and for which run in shared memory, so that the service can end a
 * thread that no interrupt reaches (native work, such as sorting).
 */
import { parentPort, workerData } from 'node:worker_threads';
import type { QuickJSContext, QuickJSHandle } from 'quickjs-emscripten-core';
import { type Instance, instances } from './instances.js';
import type { FromThread, Limits, LogLine, Program, RunFailure, RunResult, ToThread } from './messages.js';

const port = parentPort as NonNullable<typeof parentPort>;
/** [milliseconds since the thread began at which the present slice started, or 0; the run] */
const clock = new Int32Array((workerData as { clock: SharedArrayBuffer }).clock);
const began = (workerData as { began: number }).began;
const say = (message: FromThread) => port.postMessage(message);

const HARD_WORK_US = 5_000;

class Run {
  readonly #pending = new Map<number, ReturnType<QuickJSContext['newPromise']>>();
  readonly #log: LogLine[] = [];
  #instance: Instance | null = null;
  #calls = 0;
  #cpuUs = 0;
  #sliceStart = 0n;
  #over = false;
  #isSound = true;
  #failure: RunFailure | null = null;

  constructor(
    private readonly id: number,
    private readonly program: Program,
    private readonly limits: Limits,
  ) {}

  get #context(): QuickJSContext {
    return (this.#instance as Instance).context;
  }

  /** Whether it has used the processor for so long that the engine is to stop it. */
  interrupts(): boolean {
    if (this.#usedUs() < this.limits.cpuMs * 1000) return false;
    this.#failure ??= { reason: 'processor', text: `It used the processor for more than ${this.limits.cpuMs} ms.` };
    return true;
  }

  file(name: string): string | undefined {
    return Object.hasOwn(this.program.files, name) ? this.program.files[name] : undefined;
  }

  nameOf(base: string, asked: string): string {
    return resolveName(base, asked, this.program.files);
  }

  #usedUs(): number {
    return this.#sliceStart === 0n ? this.#cpuUs : this.#cpuUs + Number(process.hrtime.bigint() - this.#sliceStart) / 1000;
  }

  /** Runs a piece of work inside, and notes for how long. */
  #slice(work: () => void): void {
    if (this.#over) return;
    this.#sliceStart = process.hrtime.bigint();
    Atomics.store(clock, 1, this.id);
    Atomics.store(clock, 0, Math.max(1, Date.now() - began));
    try {
      work();
    } catch (error) {
      // Thrown through the engine, which does not know where it stands any more.
      this.#isSound = false;
      this.#failure ??= failureOf(error as Error, this.limits);
    } finally {
      Atomics.store(clock, 0, 0);
      this.#cpuUs = this.#usedUs();
      this.#sliceStart = 0n;
    }
    if (this.#failure) this.finish({ failure: this.#failure });
  }

  start(instance: Instance, argument: string): void {
    if (this.#over) return instances.giveBack(instance);
    this.#instance = instance;
    const { runtime } = instance;
    runtime.setMemoryLimit(this.limits.memoryBytes);
    runtime.setMaxStackSize(this.limits.stackBytes);
    instance.guest = this;
    this.#slice(() => {
      this.#evaluate(
        `import handler from ${JSON.stringify(this.program.main)}; globalThis.__result = globalThis.__start(handler, ${JSON.stringify(argument)});`,
      );
      this.#settle();
    });
  }

  #evaluate(source: string): void {
    const result = this.#context.evalCode(source, 'start.js', { type: 'module' });
    if (result.error) this.#fail(result.error);
    else result.value.dispose();
  }

  #fail(error: QuickJSHandle): void {
    const dumped = this.#context.dump(error) as { name?: string; message?: string; stack?: string } | string;
    error.dispose();
    this.#failure ??= failureOf(dumped, this.limits);
  }

  note(level: string, text: string): void {
    if (this.#log.length < this.limits.logLines) this.#log.push({ level: level as LogLine['level'], text: text.slice(0, 2_000) });
    else if (this.#log.length === this.limits.logLines) this.#log.push({ level: 'warn', text: 'More lines were left out.' });
  }

  call(name: string, json: string): QuickJSHandle {
    const promise = this.#context.newPromise();
    const number = ++this.#calls;
    this.#pending.set(number, promise);
    if (number > this.limits.calls) {
      this.#failure ??= { reason: 'calls', text: `It made more than ${this.limits.calls} calls.` };
      return promise.handle;
    }
    say({ say: 'call', run: this.id, call: number, name, json });
    return promise.handle;
  }

  /** A call of it was answered by the service. */
  answered(call: number, ok: boolean, json: string): void {
    const promise = this.#pending.get(call);
    if (!promise || this.#over) return;
    this.#pending.delete(call);
    this.#slice(() => {
      if (ok) {
        const text = this.#context.newString(json);
        promise.resolve(text);
        text.dispose();
      } else {
        const error = this.#context.newError(json);
        promise.reject(error);
        error.dispose();
      }
      this.#settle();
    });
  }

  /** Runs what can go on, and looks whether the answer is there. */
  #settle(): void {
    if (this.#failure) return;
    const jobs = (this.#instance as Instance).runtime.executePendingJobs();
    if (jobs.error) return this.#fail(jobs.error);
    if (this.#failure) return;
    const result = this.#context.getProp(this.#context.global, '__result');
    const state = this.#context.getPromiseState(result);
    result.dispose();
    if (state.type === 'fulfilled') {
      const text = this.#context.getString(state.value);
      state.value.dispose();
      this.#ended(text);
    } else if (state.type === 'rejected') this.#fail(state.error);
    else if (this.#pending.size === 0)
      this.#failure = { reason: 'unsettled', text: 'It awaits something that never comes: no call of it is open.' };
  }

  #ended(text: string): void {
    if (text.length > this.limits.outputChars)
      return this.finish({
        failure: { reason: 'output', text: `Its answer has ${text.length} characters; at most ${this.limits.outputChars}.` },
      });
    const ended = JSON.parse(text) as { answer?: never; refusal?: never; error?: string; stack?: string };
    if (ended.error !== undefined) {
      const stack = ended.stack ? `\n${ended.stack.trimEnd()}` : '';
      return this.finish({ failure: failureOf({ name: '', message: `${ended.error}${stack}` }, this.limits) });
    }
    this.finish({ answer: (ended.refusal ? { refusal: ended.refusal } : { value: ended.answer }) as never });
  }

  /** Counting takes longer than most runs, so it is done for those that worked hard, and for one in sixteen. An engine that was stopped cannot count. */
  #measures(cpuUs: number): boolean {
    return this.#isSound && this.#instance !== null && (cpuUs > HARD_WORK_US || this.id % 16 === 1);
  }

  finish(how: { answer: never } | { failure: RunFailure }): void {
    if (this.#over) return;
    this.#over = true;
    runs.delete(this.id);
    const cpuUs = Math.round(this.#usedUs());
    const memory = 'answer' in how && this.#measures(cpuUs) ? { memoryBytes: (this.#instance as Instance).usedBytes() } : {};
    say({ say: 'done', run: this.id, result: { ...how, cpuUs, ...memory, log: this.#log } as RunResult });
    if (this.#instance) instances.giveBack(this.#isSound ? this.#instance : null);
  }
}

/** A path from the file that imports it; with or without its ending. */
function resolveName(base: string, asked: string, files: Record<string, string>): string {
  const from = base.split('/').slice(0, -1);
  const parts = asked.startsWith('.') ? [...from, ...asked.split('/')] : asked.split('/');
  const path: string[] = [];
  for (const part of parts) {
    if (part === '..') path.pop();
    else if (part !== '.' && part !== '') path.push(part);
  }
  const plain = path.join('/').replace(/\.(ts|js)$/, '');
  return [`${plain}.js`, plain, asked].find((name) => Object.hasOwn(files, name)) ?? asked;
}

function failureOf(error: { name?: string; message?: string; stack?: string } | string, { memoryBytes }: Limits): RunFailure {
  const text =
    typeof error === 'string'
      ? error
      : [error.name && `${error.name}: `, error.message, error.stack && `\n${error.stack.trimEnd()}`].filter(Boolean).join('');
  if (/out of memory/i.test(text)) return { reason: 'memory', text: `It needed more than ${memoryBytes / 1024 / 1024} MB of memory.` };
  if (/stack overflow|Maximum call stack/i.test(text)) return { reason: 'stack', text: 'It called itself too deep.' };
  return { reason: 'error', text: text || 'It failed without words.' };
}

const runs = new Map<number, Run>();
port.on('message', (message: ToThread) => {
  if (message.say === 'run') {
    const run = new Run(message.run, message.program, message.limits);
    runs.set(message.run, run);
    instances.take((instance) => run.start(instance, message.argument));
  } else if (message.say === 'answer') runs.get(message.run)?.answered(message.call, message.ok, message.json);
  else runs.get(message.run)?.finish({ failure: message.failure });
});
