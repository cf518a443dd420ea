/** Checks functions before they are saved: syntax, types against the team's own schema, and a handler to call. */
import { Worker } from 'node:worker_threads';
import { threadFile } from '../../platform/threads/threadFile.js';
import { FUNCTION_TYPES, Problem } from '@orchard/contract';
import type { Field } from '@orchard/core';
import type { CollectionShape } from '../collections/shape.js';
import type { CheckAnswer, CheckError, CheckTask } from './checkWorker.js';

/** The compiler holds a hundred megabytes. */
const IDLE_MS = 30_000;
const CHECK_MS = 20_000;

export class Checker {
  #worker: Worker | null = null;
  #next = 0;
  #idle: NodeJS.Timeout | null = null;
  readonly #waiting = new Map<number, { resolve: (answer: CheckAnswer) => void; reject: (problem: Problem) => void }>();

  /** @returns the files as JavaScript @throws {Problem} function-refused */
  async build(files: Record<string, string>, collections: Iterable<CollectionShape>, more: string): Promise<Record<string, string>> {
    if (!files['main.ts'] && !files['main.js'])
      throw refused([
        { file: 'main.ts', line: 1, column: 1, message: 'There is no main.ts or main.js, whose default export is the handler.' },
      ]);
    const { errors, built } = await this.#ask(files, `${declarationsOf(collections)}\n${more}`);
    if (errors.length > 0) throw refused(errors);
    return built;
  }

  #ask(files: Record<string, string>, declarations: string): Promise<CheckAnswer> {
    const worker = this.#start();
    const id = ++this.#next;
    if (this.#idle) clearTimeout(this.#idle);
    const late = setTimeout(() => this.#end(`The check took longer than ${CHECK_MS / 1000} s.`), CHECK_MS);
    return new Promise<CheckAnswer>((resolve, reject) => {
      this.#waiting.set(id, { resolve, reject });
      worker.postMessage({ id, files, declarations } satisfies CheckTask);
    }).finally(() => clearTimeout(late));
  }

  #start(): Worker {
    if (this.#worker) return this.#worker;
    const worker = new Worker(threadFile(new URL('./checkWorker.js', import.meta.url)));
    worker.unref();
    worker.on('message', (answer: CheckAnswer) => {
      this.#waiting.get(answer.id)?.resolve(answer);
      this.#waiting.delete(answer.id);
      if (this.#waiting.size > 0) return;
      this.#idle = setTimeout(() => this.close(), IDLE_MS);
      this.#idle.unref();
    });
    worker.on('error', (error) => {
      if (worker === this.#worker) this.#end(`The check ended: ${error.message}.`);
    });
    this.#worker = worker;
    return worker;
  }

  /** Ends the thread, and tells why to all that wait for it. */
  #end(why: string): void {
    const waiting = [...this.#waiting.values()];
    this.#waiting.clear();
    if (this.#idle) clearTimeout(this.#idle);
    void this.#worker?.terminate();
    this.#worker = null;
    for (const { reject } of waiting) reject(refused([{ file: 'main.ts', line: 1, column: 1, message: why }]));
  }

  close(): void {
    this.#end('The service stops.');
  }
}

export function refused(errors: readonly CheckError[]): Problem {
  const [first] = errors as [CheckError];
  return new Problem('function-refused', `${first.file}, line ${first.line}, column ${first.column}: ${first.message}`, {
    fields: errors.map(({ file, line, column, message }) => ({
      path: `${file}:${line}:${column}`,
      problem: message,
      expected: 'code without this error',
    })),
  });
}

const TYPES: Record<Field['type'], string> = {
  text: 'string',
  integer: 'number',
  number: 'number',
  boolean: 'boolean',
  date: 'string',
  time: 'string',
  choice: 'string',
  place: "{ type: 'Point'; coordinates: [number, number] }",
  reference: 'string',
  file: 'string',
  list: 'unknown[]',
  object: 'Record<string, any>',
};
const typeOf = ({ type, choices }: Field): string => (choices ? choices.map((one) => JSON.stringify(one)).join(' | ') : TYPES[type]);

/** The team's collections as types, and what a function can reach. */
export function declarationsOf(collections: Iterable<CollectionShape>): string {
  const shapes = [...collections];
  // Each has a name of its own, which errors can say in place of all its fields.
  const interfaces = shapes.map(
    ({ name, fields }) =>
      `interface Fields_${name} {\n${[...fields].map(([field, of]) => `  ${field}: ${typeOf(of)} | null;`).join('\n')}\n}`,
  );
  const named = shapes.map(({ name }) => `  ${name}: Fields_${name};`);
  return `${interfaces.join('\n')}\ninterface Collections {\n${named.join('\n')}\n}\n${FUNCTION_TYPES}`;
}
