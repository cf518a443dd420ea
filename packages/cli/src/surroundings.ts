/** Where a command runs: its streams, its environment variables and its exit code. By default, those of the process. */
import { AsyncLocalStorage } from 'node:async_hooks';
import type { Readable, Writable } from 'node:stream';

export type Surroundings = {
  stdin: Readable & { isTTY?: boolean };
  stdout: Writable & { isTTY?: boolean };
  stderr: Writable & { isTTY?: boolean };
  env: NodeJS.ProcessEnv;
  exitCode: number;
};

const given = new AsyncLocalStorage<Surroundings>();
const ofProcess: Surroundings = {
  stdin: process.stdin,
  stdout: process.stdout,
  stderr: process.stderr,
  env: process.env,
  get exitCode() {
    return Number(process.exitCode ?? 0);
  },
  set exitCode(code) {
    process.exitCode = code;
  },
};

export const surroundings = (): Surroundings => given.getStore() ?? ofProcess;
/** Runs work, and all it begins, in other surroundings: inside another program. */
export const runIn = <T>(other: Surroundings, work: () => T): T => given.run(other, work);

/** Writes a line to standard output. */
export const print = (text: string): void => void surroundings().stdout.write(`${text}\n`);
/** Writes a line to standard error. */
export const printError = (text: string): void => void surroundings().stderr.write(`${text}\n`);
