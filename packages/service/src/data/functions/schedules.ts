/** Functions that run by the clock: a job for each says when it is due next; what it runs is a call like those of hooks. */
import type { JsonObject } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Job, JobKind } from '../../platform/jobs/queue.js';
import type { Calls } from './calls.js';
import { dueTimes, nextOf } from './clock.js';
import type { Ground } from './ground.js';
import type { Parts } from './parts.js';
import type { FunctionRow } from './rows.js';

export const SCHEDULE_JOB = 'schedule';
export class Schedules {
  constructor(
    private readonly parts: Parts,
    private readonly ground: Ground,
    private readonly calls: Calls,
  ) {}

  readonly job: JobKind = { work: (job) => this.#work(job), returns: true };

  /** Moves the next run to where the clock says, after a change of the schedule. */
  async arrange(on: Statements, environment: Environment, row: FunctionRow): Promise<void> {
    const next = row.version > 0 && nextOf(row, new Date(this.parts.now()));
    if (!next) return;
    await this.parts.jobs.add(on, environment, SCHEDULE_JOB, row.name, next);
    await this.parts.jobs.wake(environment, next);
  }

  async #work(job: Job): Promise<Date | null> {
    const environment = await this.parts.directory.environmentById(job.environmentId);
    const row = environment && (await this.ground.store.find(environment, job.subject));
    if (!environment || row?.kind !== 'schedule' || row.version === 0) return null;
    const now = new Date(this.parts.now());
    await environment.db.transaction(async (on) => {
      for (const due of dueTimes(row, job.runAt, now)) {
        const event: JsonObject = { due: due.toISOString() };
        const order = {
          event,
          userId: null,
          trusted: true,
          origin: { request: null, trace: this.parts.random(16).toString('hex'), depth: 0 },
        };
        await this.calls.addOne(on, environment, row.name, `due ${due.toISOString()}`, order as never);
      }
      // In the same transaction: a time is not run twice when this instance ends here.
      await this.parts.jobs.add(on, environment, SCHEDULE_JOB, row.name, nextOf(row, now) as Date);
    });
    await this.parts.jobs.wake(environment);
    return nextOf(row, now);
  }
}
