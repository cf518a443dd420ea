/** What runs of functions leave behind: written a second later, so that no caller waits for it. */
import type { FunctionRun } from '@orchard/contract';
import { type JsonObject, maskSecrets } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { WriteBehind } from '../../platform/writeBehind.js';
import type { Parts } from './parts.js';
import type { RunReport } from './running.js';
import type { RunRow } from './rows.js';
import type { FunctionStore } from './store.js';

const MOST_WAITING = 5_000;
const MOST_CHARS = 5_000;
/** What a run was for. `call` and `order`: of a run that a job makes. */
export type RunCause = Pick<RunRow, 'id' | 'name' | 'version' | 'at' | 'cause' | 'request' | 'trace' | 'userId'> &
  Partial<Pick<RunRow, 'attempt' | 'call' | 'order'>>;
/** How it ended: of an endpoint with its response. */
export type RunEnd = Pick<RunReport, 'error' | 'durationUs' | 'cpuUs' | 'memoryBytes' | 'log' | 'calls'> & {
  outcome: FunctionRun['outcome'];
  status?: number | null;
};

/** Longer ones are not kept. */
const EVENT_CHARS = 8_000;

/** What a run that did not end well was called with, secrets masked: to be tried again. Of others nothing is kept. */
export function eventFor({ outcome }: Pick<RunEnd, 'outcome'>, event: JsonObject): JsonObject | null {
  if (outcome === 'answered') return null;
  const text = JSON.stringify(event);
  return text.length > EVENT_CHARS ? null : { event: JSON.parse(maskSecrets(text)) as JsonObject };
}

export class RunLog {
  readonly #rows: WriteBehind<RunRow>;

  constructor(
    private readonly parts: Parts,
    store: FunctionStore,
  ) {
    this.#rows = new WriteBehind(parts.log, {
      what: 'runs of functions',
      most: MOST_WAITING,
      write: (environment, rows) => store.addRuns(environment, rows),
    });
  }

  start(): void {
    this.#rows.start();
  }

  /** Takes a run, without I/O. */
  add(
    environment: Environment,
    cause: RunCause,
    { outcome, status = null, error, durationUs, cpuUs, memoryBytes, log, calls }: RunEnd,
  ): void {
    const failed = outcome === 'failed' || outcome === 'stopped';
    this.parts.ports.countWork(environment, { kind: 'function', name: cause.name, failed, durationUs });
    this.#rows.add(environment, () => ({
      attempt: 1,
      call: null,
      order: null,
      ...cause,
      cause: cause.cause.slice(0, 200),
      durationUs: Math.round(durationUs),
      cpuUs,
      memoryKb: memoryBytes === null ? null : Math.round(memoryBytes / 1024),
      outcome,
      failed,
      status,
      error: error?.slice(0, MOST_CHARS) ?? null,
      details: { log, calls } as unknown as JsonObject,
    }));
  }

  flush(): Promise<void> {
    return this.#rows.flush();
  }

  stop(): Promise<void> {
    return this.#rows.stop();
  }
}
