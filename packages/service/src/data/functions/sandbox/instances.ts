/**
 * Instances of the engine, made ahead. A run changes the memory of its instance as it likes; afterwards the memory is put back as it
 * was before the run. That takes a tenth of the time of a new context, and leaves nothing behind.
 */
import variant from '@jitl/quickjs-wasmfile-release-sync';
import {
  newQuickJSWASMModuleFromVariant,
  type QuickJSContext,
  type QuickJSHandle,
  type QuickJSRuntime,
  type QuickJSWASMModule,
} from 'quickjs-emscripten-core';
import { PRELUDE } from './prelude.js';

/** What an instance asks of the run that has it. */
type Guest = {
  call(name: string, json: string): QuickJSHandle;
  note(level: string, text: string): void;
  interrupts(): boolean;
  file(name: string): string | undefined;
  nameOf(base: string, asked: string): string;
};
const PAGE = 4096;
const ZEROS = Buffer.alloc(PAGE);
/** Zeros kept behind each stretch that is kept: variables that are still zero. A longer stretch is the unused stack. */
const MARGIN = 256 * 1024;
/** An instance begins with 16 MB. */
const MOST_BYTES = 24 * 1024 * 1024;

export class Instance {
  readonly runtime: QuickJSRuntime;
  readonly context: QuickJSContext;
  guest: Guest | null = null;
  readonly #kept: { at: number; bytes: Uint8Array }[];

  constructor(private readonly engine: QuickJSWASMModule) {
    this.runtime = engine.newRuntime();
    this.context = this.runtime.newContext();
    // Registered before the memory is kept: the engine notes there that it has them.
    this.runtime.setInterruptHandler(() => this.guest?.interrupts() ?? false);
    this.runtime.setModuleLoader(
      (name) => this.guest?.file(name) ?? { error: new Error(`There is no file ${name}.`) },
      (base, asked) => this.guest?.nameOf(base, asked) ?? asked,
    );
    this.#offer('__call', (name, json) => this.guest?.call(this.#text(name), this.#text(json)));
    this.#offer('__log', (level, text) => {
      this.guest?.note(this.#text(level), this.#text(text));
      return undefined;
    });
    // The engine's own numbers would begin anew, the same in every run.
    this.#offer('__random', () => this.context.newNumber(Math.random()));
    this.context.unwrapResult(this.context.evalCode(PRELUDE, 'orchard.js')).dispose();
    // The library makes a context of its own to count in, and remembers it: it has to be there before the memory is kept.
    this.usedBytes();
    this.#kept = stretches(this.#memory());
  }

  #offer(name: string, work: (...values: QuickJSHandle[]) => QuickJSHandle | undefined): void {
    const offered = this.context.newFunction(name, (...values) => work(...values));
    this.context.setProp(this.context.global, name, offered);
    offered.dispose();
  }

  #text(value: QuickJSHandle | undefined): string {
    return value ? this.context.getString(value) : '';
  }

  /** What the engine holds now. */
  usedBytes(): number {
    const usage = this.runtime.computeMemoryUsage();
    const used = this.context.getProp(usage, 'memory_used_size');
    const bytes = this.context.getNumber(used);
    used.dispose();
    usage.dispose();
    return bytes;
  }

  #memory(): Uint8Array {
    return new Uint8Array(this.engine.getWasmMemory().buffer);
  }

  /** @returns whether it may be used again; one that grew large is let go, since such memory never shrinks */
  reset(): boolean {
    this.guest = null;
    const memory = this.#memory();
    if (memory.length > MOST_BYTES) return false;
    for (const { at, bytes } of this.#kept) memory.set(bytes, at);
    return true;
  }
}

/** The parts of a memory that are not zero, each with the zeros right behind it. */
function stretches(memory: Uint8Array): { at: number; bytes: Uint8Array }[] {
  const kept: { from: number; to: number }[] = [];
  for (let from = 0; from < memory.length; from += PAGE) {
    if (ZEROS.equals(memory.subarray(from, from + PAGE))) continue;
    const to = Math.min(from + PAGE + MARGIN, memory.length);
    const last = kept.at(-1);
    if (last && last.to >= from) last.to = to;
    else kept.push({ from, to });
  }
  return kept.map(({ from, to }) => ({ at: from, bytes: memory.slice(from, to) }));
}

/** Under way at once in an environment; more runs wait. */
const MOST = 32;
let made = 0;
let isMaking = false;
const idle: Instance[] = [];
const waiting: ((instance: Instance) => void)[] = [];
const make = async (): Promise<Instance> =>
  new Instance(await newQuickJSWASMModuleFromVariant(((variant as { default?: unknown }).default ?? variant) as never));

export const instances = {
  /** Hands over an instance: at once, if one is idle. */
  take(start: (instance: Instance) => void): void {
    const instance = idle.pop();
    if (instance) return start(instance);
    waiting.push(start);
    addOne();
  },

  /** @param instance null for one that is not sound any more */
  giveBack(instance: Instance | null): void {
    if (!instance?.reset()) {
      made--;
      return addOne();
    }
    offer(instance);
  },
};

function offer(instance: Instance): void {
  const start = waiting.shift();
  // Not at once: the run that gives it back is still at work.
  if (start) queueMicrotask(() => start(instance));
  else idle.push(instance);
}

/** One at a time: meanwhile those that are there take up what waits, and perhaps no more are needed. */
function addOne(): void {
  if (isMaking || made >= MOST) return;
  isMaking = true;
  made++;
  void make().then((instance) => {
    isMaking = false;
    offer(instance);
    if (waiting.length > 0) addOne();
  });
}
addOne();
