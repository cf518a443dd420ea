/**
 * The thread of a sandbox: QuickJS in WebAssembly, a context of its own for each run, nothing kept from one to the next. While a
 * context runs, the thread notes since when and for which run in shared memory, so that the service can end a thread that no
 * interrupt reaches (native work, such as sorting).
 */
import { parentPort, workerData } from 'node:worker_threads';
import variant from '@jitl/quickjs-wasmfile-release-sync';
import { newQuickJSWASMModuleFromVariant, type QuickJSContext, type QuickJSHandle, type QuickJSRuntime } from 'quickjs-emscripten-core';
import type { FromThread, Limits, LogLine, Program, RunFailure, RunResult, ToThread } from './messages.js';
import { PRELUDE } from './prelude.js';

const port = parentPort as NonNullable<typeof parentPort>;
/** [milliseconds since the thread began at which the present slice started, or 0; the run] */
const clock = new Int32Array((workerData as { clock: SharedArrayBuffer }).clock);
const began = (workerData as { began: number }).began;
const engine = await newQuickJSWASMModuleFromVariant(((variant as { default?: unknown }).default ?? variant) as never);
const say = (message: FromThread) => port.postMessage(message);

/** A context with all that a run can reach, made ahead, so that a run does not wait for it. */
type Ready = { runtime: QuickJSRuntime; context: QuickJSContext; run: Run | null };
const AHEAD = 4;
const ahead: Ready[] = [];

function makeReady(): Ready {
  const runtime = engine.newRuntime();
  const ready: Ready = { runtime, context: runtime.newContext(), run: null };
  const { context } = ready;
  const offer = (name: string, work: (...values: QuickJSHandle[]) => QuickJSHandle | undefined) => {
    const offered = context.newFunction(name, (...values) => work(...values));
    context.setProp(context.global, name, offered);
    offered.dispose();
  };
  offer('__call', (name, json) => ready.run?.call(textOf(context, name), textOf(context, json)));
  offer('__log', (level, text) => {
    ready.run?.note(textOf(context, level), textOf(context, text));
    return undefined;
  });
  context.unwrapResult(context.evalCode(PRELUDE, 'orchard.js')).dispose();
  return ready;
}

const textOf = (context: QuickJSContext, value: QuickJSHandle | undefined): string => (value ? context.getString(value) : '');

let isFilling = false;
/** Makes contexts while no message waits, one after the other. */
function makeAhead(): void {
  if (isFilling || ahead.length >= AHEAD) return;
  isFilling = true;
  setImmediate(() => {
    isFilling = false;
    ahead.push(makeReady());
    makeAhead();
  });
}
makeAhead();

class Run {
  readonly #runtime: QuickJSRuntime;
  readonly #context: QuickJSContext;
  readonly #pending = new Map<number, ReturnType<QuickJSContext['newPromise']>>();
  readonly #log: LogLine[] = [];
  #calls = 0;
  #cpuUs = 0;
  #sliceStart = 0n;
  #over = false;
  #failure: RunFailure | null = null;

  constructor(
    private readonly id: number,
    private readonly program: Program,
    private readonly limits: Limits,
  ) {
    const ready = ahead.pop() ?? makeReady();
    ready.run = this;
    const { runtime, context } = ready;
    [this.#runtime, this.#context] = [runtime, context];
    runtime.setMemoryLimit(limits.memoryBytes);
    runtime.setMaxStackSize(limits.stackBytes);
    runtime.setInterruptHandler(() => {
      if (this.#usedUs() < limits.cpuMs * 1000) return false;
      this.#failure ??= { reason: 'processor', text: `It used the processor for more than ${limits.cpuMs} ms.` };
      return true;
    });
    runtime.setModuleLoader(
      (name) => {
        const source = Object.hasOwn(program.files, name) ? program.files[name] : undefined;
        return source ?? { error: new Error(`There is no file ${name}.`) };
      },
      (base, asked) => resolveName(base, asked, program.files),
    );
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
    } finally {
      Atomics.store(clock, 0, 0);
      this.#cpuUs = this.#usedUs();
      this.#sliceStart = 0n;
    }
    if (this.#failure) this.finish({ failure: this.#failure });
  }

  start(argument: string): void {
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
    const jobs = this.#runtime.executePendingJobs();
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

  finish(how: { answer: never } | { failure: RunFailure }): void {
    if (this.#over) return;
    this.#over = true;
    runs.delete(this.id);
    const cpuUs = Math.round(this.#usedUs());
    const isSound = this.#giveBack();
    say({ say: 'done', run: this.id, result: { ...how, cpuUs, log: this.#log } as RunResult, last: !isSound });
    if (isSound) makeAhead();
  }

  /** What a context held when it was interrupted cannot always be given back: then the thread is not used again. */
  #giveBack(): boolean {
    try {
      for (const promise of this.#pending.values()) promise.dispose();
      this.#context.dispose();
      this.#runtime.dispose();
      return true;
    } catch {
      return false;
    }
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
    run.start(message.argument);
  } else if (message.say === 'answer') runs.get(message.run)?.answered(message.call, message.ok, message.json);
  else runs.get(message.run)?.finish({ failure: message.failure });
});
