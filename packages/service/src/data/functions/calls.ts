/**
 * Calls of functions that nobody waits for: of hooks after an action, and of schedules. Each is a row and a job, added in the transaction of
 * what it follows from. It runs at least once, and its id is the key by which a function can tell a second attempt.
 */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Job, JobKind } from '../../platform/jobs/queue.js';
import { asUser } from '../records/asUser.js';
import { type Author, type Origin, THE_SERVICE_ITSELF } from '../records/author.js';
import type { InForce } from './directory.js';
import { callerOf, type Ground } from './ground.js';
import type { Parts } from './parts.js';
import { held } from './rows.js';
import { runFunction } from './runFunction.js';

export const CALL_JOB = 'function';
/** Under way at once on an instance. */
const AT_ONCE = 4;
/** What a call is about, as it is stored: `event` for the handler, and whose action led to it. */
type Order = { event: JsonObject; userId: string | null; trusted: boolean; origin: Origin };
type Event = { subject: string; action: string; id: string | null } & JsonObject;

/** A run that failed: the queue tries it again. */
class RunFailed extends Error {}

export class Calls {
  constructor(
    private readonly parts: Parts,
    private readonly ground: Ground,
  ) {}

  readonly job: JobKind = { work: (job) => this.#work(job), atOnce: AT_ONCE };

  /** Adds a call of each hook; {@link JobQueue.wake} follows once that is committed. */
  async add(
    on: Statements,
    environment: Environment,
    hooks: readonly InForce[],
    { trusted = true, userId = null, ...origin }: Origin & { trusted?: boolean; userId?: string | null },
    event: Event,
  ): Promise<void> {
    const order: Order = { event, userId, trusted, origin: { request: origin.request, trace: origin.trace, depth: origin.depth } };
    const cause = `after ${event.action} of ${event.subject}${event.id ? ` ${event.id}` : ''}`;
    for (const { row } of hooks) await this.addOne(on, environment, row.name, cause, order);
  }

  /** @returns the key for idempotency */
  async addOne(on: Statements, environment: Environment, name: string, cause: string, order: Order | JsonObject): Promise<string> {
    const id = this.parts.newId();
    const call = { id, name, cause: cause.slice(0, 200), order: order as unknown as JsonObject, createdAt: new Date(this.parts.now()) };
    await this.ground.store.addCall(on, environment, call);
    await this.parts.jobs.add(on, environment, CALL_JOB, id);
    return id;
  }

  /** Adds a call anew, of a run that a job made. @throws {Problem} not-found, wrong-state */
  async again(environment: Environment, name: string, runId: string): Promise<string> {
    const run = await this.ground.store.run(environment, name, runId);
    if (!run) throw new Problem('not-found', `There is no run ${runId} of ${name}; runs are kept for seven days.`);
    if (!run.order || !run.call)
      throw new Problem(
        'wrong-state',
        `The run ${runId} answered a caller, and cannot be run again. Only what a job ran can: hooks after an action, and schedules.`,
      );
    const order = held<JsonObject>(run.order);
    const key = await environment.db.transaction((on) => this.addOne(on, environment, name, run.cause, order));
    await this.parts.jobs.wake(environment);
    return key;
  }

  async #work(job: Job): Promise<null> {
    const environment = await this.parts.directory.environmentById(job.environmentId);
    if (!environment) return null;
    const { store, directory } = this.ground;
    const call = await store.call(environment, job.subject);
    if (!call) return null;
    const found = await directory.named(environment, call.name);
    // Nobody is left who would do it.
    if (found) await this.#run(environment, found, call.id, call.cause, held<Order>(call.order), job.attempts + 1);
    await store.removeCall(environment, call.id);
    return null;
  }

  async #run(environment: Environment, found: InForce, key: string, cause: string, order: Order, attempt: number): Promise<void> {
    const { row } = found;
    const author = await this.#authorOf(environment, order);
    const { depth, trace } = order.origin;
    const { event } = order;
    const argument = { ...event, ...(row.kind === 'hook' ? { caller: callerOf(author), depth } : {}), key, attempt };
    const job = { attempt, call: key, order: order as unknown as JsonObject };
    const occasion = { author, depth: depth + 1, cause, argument, event, job };
    const { report } = await runFunction(this.parts, this.ground, environment, found, occasion, (ended) => ended);
    const failed = report.outcome === 'failed' || report.outcome === 'stopped';
    this.parts.ports.logEntry(environment, {
      level: failed ? 'error' : 'debug',
      source: `function ${row.name}`,
      text: failed ? `${cause}: ${report.error?.split('\n')[0]}` : `${cause}: ${report.outcome}`,
      trace: trace ?? undefined,
    });
    // What went round in circles would do so again.
    if (failed && !report.tooDeep) throw new RunFailed(`${row.name}, ${cause}: ${report.error?.split('\n')[0]}`);
  }

  /** Whoever acted, with the rights that they have now; for somebody who is gone nothing but public rights are left. */
  async #authorOf(environment: Environment, { userId, trusted, origin }: Order): Promise<Author> {
    if (trusted) return { ...THE_SERVICE_ITSELF, origin };
    const nobody: Author = { ...THE_SERVICE_ITSELF, trusted: false, origin };
    if (!userId) return nobody;
    return asUser(environment, userId).then(
      (author) => ({ ...author, origin }),
      (error) => {
        if (error instanceof Problem && error.problem === 'not-found') return nobody;
        throw error;
      },
    );
  }
}
