/** What runs of functions leave behind: written a second later, so that no caller waits for it. */
import type { JsonObject } from '@orchard/core';
import { type Call, environmentOf } from '../../platform/call.js';
import { WriteBehind } from '../../platform/writeBehind.js';
import type { Parts } from './parts.js';
import type { RunReport } from './running.js';
import type { FunctionRow, FunctionStore, RunRow } from './store.js';

const MOST_WAITING = 5_000;
const MOST_CHARS = 5_000;

export class RunLog {
  readonly #rows: WriteBehind<RunRow>;

  constructor({ log }: Parts, store: FunctionStore) {
    this.#rows = new WriteBehind(log, {
      what: 'runs of functions',
      most: MOST_WAITING,
      write: (environment, rows) => store.addRuns(environment, rows),
    });
  }

  start(): void {
    this.#rows.start();
  }

  /** Takes a run that answered a call, without I/O. */
  add(call: Call, { name, version }: FunctionRow, { outcome, answer, error, durationUs, cpuUs, log, calls }: RunReport): void {
    this.#rows.add(environmentOf(call), () => ({
      id: call.id,
      name,
      version,
      at: new Date(call.at),
      durationUs: Math.round(durationUs),
      cpuUs,
      outcome,
      failed: outcome === 'failed' || outcome === 'stopped',
      status: answer?.status ?? null,
      error: error?.slice(0, MOST_CHARS) ?? null,
      details: { log, calls } as unknown as JsonObject,
      userId: call.user?.id ?? null,
    }));
  }

  flush(): Promise<void> {
    return this.#rows.flush();
  }

  stop(): Promise<void> {
    return this.#rows.stop();
  }
}
