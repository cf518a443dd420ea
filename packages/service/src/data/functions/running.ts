/** Runs functions in their environment's sandbox, and says how a run ended. */
import { AsyncResource } from 'node:async_hooks';
import type { FunctionRun } from '@orchard/contract';
import type { Json, JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Author } from '../records/author.js';
import { runCombined } from './combining.js';
import type { Fetching } from './fetching.js';
import type { Parts } from './parts.js';
import { Reach } from './reach.js';
import { RecordAccess } from './recordReach.js';
import type { Joining, MadeCall } from './reaching.js';
import type { Program, RunResult } from './sandbox/messages.js';
import type { Sandboxes } from './sandbox/thread.js';

export type Refusal = { text: string; status?: unknown; field?: string };
export type RunReport = {
  outcome: FunctionRun['outcome'];
  /** What its handler returned; undefined unless it answered. */
  value?: Json;
  refusal?: Refusal;
  error: string | null;
  durationUs: number;
  cpuUs: number;
  memoryBytes: number | null;
  log: RunResult['log'];
  calls: MadeCall[];
  changes: JsonObject[];
  /** Whether hooks that trigger hooks went too deep. */
  tooDeep: boolean;
};
export type RunOrder = {
  environment: Environment;
  name: string;
  program: Program;
  /** What the handler is called with. */
  argument: JsonObject;
  author: Author;
  /** Whose action it runs for, also where it has rights of its own. */
  userId: string | null;
  hosts: readonly string[];
  secret: (name: string) => Promise<string>;
  /** Of a hook before a write: where what it writes is gathered. */
  joining?: Joining;
  /** What it writes is noted, since it will be undone. */
  isTrial?: boolean;
};
/** Ends the transaction of a trial. */
class Undo extends Error {}

export class Running {
  readonly #access: RecordAccess;

  constructor(
    private readonly parts: Parts,
    private readonly sandboxes: Sandboxes,
    private readonly fetching: Fetching,
  ) {
    this.#access = new RecordAccess(parts);
  }

  async run({ environment, program, argument, ...at }: RunOrder): Promise<RunReport> {
    const used: string[] = [];
    const secret = async (name: string) => {
      const value = await at.secret(name);
      used.push(value);
      return value;
    };
    const reach = new Reach(this.parts, this.#access, this.fetching, { environment, ...at, secret });
    const started = process.hrtime.bigint();
    // Its calls arrive as messages of a thread; they belong to the unit of work and the costs of whoever runs it.
    const answering = AsyncResource.bind((name: string, json: string) => reach.answer(name, json));
    const result = program.combined
      ? await runCombined(program.combined, argument, reach)
      : await this.sandboxes.run(environment.id, program, JSON.stringify(argument), answering);
    const durationUs = Number(process.hrtime.bigint() - started) / 1000;
    const masked = masking(used);
    const shared = {
      durationUs,
      cpuUs: result.cpuUs,
      memoryBytes: result.memoryBytes ?? null,
      log: result.log.map(({ level, text }) => ({ level, text: masked(text) })),
      calls: reach.calls.map((made) => ({ ...made, about: masked(made.about) })),
      changes: reach.changes,
      tooDeep: reach.tooDeep,
    };
    if ('failure' in result)
      return { ...shared, outcome: result.failure.reason === 'error' ? 'failed' : 'stopped', error: masked(result.failure.text) };
    const { refusal, value } = result.answer as { refusal?: Refusal; value?: Json };
    if (refusal) return { ...shared, outcome: 'refused', refusal, error: masked(refusal.text) };
    return { ...shared, outcome: 'answered', value: value ?? null, error: null };
  }

  /** Does work whose writes are undone afterwards. */
  async undone<T>(environment: Environment, work: (closed: Environment) => Promise<T>): Promise<T> {
    let done: { result: T } | null = null;
    try {
      await environment.db.unit(async () => {
        // An open environment would make fields, which no transaction undoes.
        done = { result: await work({ ...environment, mode: 'closed' }) };
        throw new Undo();
      });
    } catch (error) {
      if (!(error instanceof Undo)) throw error;
    }
    return (done as unknown as { result: T }).result;
  }

  /** Runs, shows what would be written, and undoes it. */
  try(order: RunOrder): Promise<RunReport> {
    return this.undone(order.environment, (environment) => this.run({ ...order, environment, isTrial: true }));
  }
}

/** Values of secrets that a run was given never reach what is kept of it. */
function masking(values: readonly string[]): (text: string) => string {
  return (text) => values.filter((value) => value.length >= 4).reduce((shown, value) => shown.replaceAll(value, '•••'), text);
}
