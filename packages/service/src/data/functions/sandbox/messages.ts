/** What the service and a sandbox's thread say to each other. */
import type { Combined, Json } from '@orchard/core';

export type Limits = {
  /** Of the processor, and in all, for one run. */
  cpuMs: number;
  wallMs: number;
  memoryBytes: number;
  stackBytes: number;
  /** Characters of the answer as JSON. */
  outputChars: number;
  /** Calls that a run makes of what it can reach. */
  calls: number;
  /** Lines of its log. */
  logLines: number;
};
export const LIMITS: Limits = {
  cpuMs: 200,
  wallMs: 10_000,
  memoryBytes: 32 * 1024 * 1024,
  stackBytes: 512 * 1024,
  outputChars: 1_000_000,
  calls: 200,
  logLines: 200,
};

/** JavaScript by file name, and the file whose default export is called; or an endpoint without code. */
export type Program = { files: Record<string, string>; main: string; combined?: Combined };
export type LogLine = { level: 'info' | 'warn' | 'error'; text: string };
/** How a run ended, besides by its answer. */
export type RunFailure = {
  reason: 'error' | 'processor' | 'time' | 'memory' | 'stack' | 'output' | 'calls' | 'unsettled' | 'ended';
  text: string;
};
export type RunResult = ({ answer: Json } | { failure: RunFailure }) & {
  cpuUs: number;
  /** Of its engine at the end; measured now and then, since the engine counts all that it holds. */
  memoryBytes?: number;
  log: LogLine[];
};

export type ToThread =
  | { say: 'run'; run: number; program: Program; argument: string; limits: Limits }
  | { say: 'answer'; run: number; call: number; ok: boolean; json: string }
  | { say: 'stop'; run: number; failure: RunFailure };
export type FromThread =
  | { say: 'call'; run: number; call: number; name: string; json: string }
  | { say: 'done'; run: number; result: RunResult };
