/**
 * Applies a release step by step, as a job: to its end, or back to where it was. After a kill it is read anew what differs,
 * so that a step that was under way is done once more only where it was not done.
 */
import { Problem } from '@orchard/contract';
import type { SetupParts } from '@orchard/core';
import type { Environment, SignedInMember } from '../../platform/call.js';
import type { Job, JobKind, Lease } from '../../platform/jobs/queue.js';
import { callsOf, type SetupCalls } from './calls.js';
import { changesBetween, stepsOf } from './comparing.js';
import type { Step } from './kinds/kind.js';
import type { Parts } from './parts.js';
import { digestOf, readSetup } from './reading.js';
import type { ReleaseRow, ReleaseStore } from './store.js';
import type { ReleaseMember } from './tables.js';

export const RELEASE_JOB = 'release';

/** A step that cannot be done, and why. */
class StepRefused extends Error {
  constructor(step: Step, { detail }: Problem) {
    super(`${step.text}: ${detail}`);
  }
}

/** Another instance has taken the release over, or the service stops. */
class HandedOver extends Error {}

const memberOf = (member: ReleaseMember): SignedInMember => ({ ...member, tokenHash: '', confirmedAt: 0, secondFactor: true });

export class Releasing {
  constructor(
    private readonly parts: Parts,
    private readonly store: ReleaseStore,
  ) {}

  readonly job: JobKind = { work: (job, lease) => this.#work(job, lease) };

  async #work(job: Job, lease: Lease): Promise<null | Date> {
    const environment = await this.parts.directory.environmentById(job.environmentId);
    const row = environment && (await this.store.find(environment, job.subject));
    if (!environment || !row) return null;
    // Killed after its last word: all that is left is to make room for the next one.
    if (row.state !== 'running' && row.state !== 'returning') {
      await this.store.end(environment, row.id);
      return null;
    }
    const calls = callsOf(this.parts, environment, { member: memberOf(row.member), role: 'maintainer' });
    try {
      if (row.state === 'running') await this.#forward(environment, row, calls, lease);
      else await this.#back(environment, row, calls, lease);
    } catch (error) {
      if (error instanceof HandedOver) return new Date(this.parts.now());
      throw error;
    }
    await this.store.end(environment, row.id);
    return null;
  }

  async #forward(environment: Environment, row: ReleaseRow, calls: SetupCalls, lease: Lease): Promise<void> {
    const wanted = JSON.parse(row.wanted) as SetupParts;
    const now = await readSetup(calls);
    if (row.done === 0 && row.doing === null && digestOf(now) !== row.base) {
      const problem = 'The setup was changed between the comparison and this release. Compare again.';
      return this.#end(environment, row, 'failed', problem);
    }
    const steps = stepsOf(changesBetween(now, wanted), wanted, now);
    // Of a release that goes on after a kill, those that are left are done beside those that were.
    await this.store.change(environment, row.id, { total: row.done + steps.length });
    try {
      await this.#run(environment, row, steps, calls, lease, row.done);
    } catch (error) {
      if (!(error instanceof StepRefused)) throw error;
      const problem = error.message;
      this.parts.log.warn({ release: row.id, environment: environment.id, problem }, 'a release goes back');
      await this.store.change(environment, row.id, { state: 'returning', problem: problem.slice(0, 2000) });
      return this.#back(environment, { ...row, problem }, calls, lease);
    }
    await this.#end(environment, row, 'done', null);
  }

  /** Puts back what was there; what was dropped before the step that failed can be restored, or was said to be lost. */
  async #back(environment: Environment, row: ReleaseRow, calls: SetupCalls, lease: Lease): Promise<void> {
    const before = JSON.parse(row.before) as SetupParts;
    const now = await readSetup(calls);
    const changes = changesBetween(now, withFormerNames(before, now, JSON.parse(row.wanted) as SetupParts));
    try {
      await this.#run(environment, row, stepsOf(changes, before, now), calls, lease, 0, false);
    } catch (error) {
      if (!(error instanceof StepRefused)) throw error;
      return this.#end(environment, row, 'failed', `${row.problem} It could not go back either: ${error.message}`);
    }
    await this.#end(environment, row, 'returned', row.problem);
  }

  async #run(
    environment: Environment,
    row: ReleaseRow,
    steps: Step[],
    calls: SetupCalls,
    lease: Lease,
    before: number,
    counts = true,
  ): Promise<void> {
    let done = 0;
    for (const group of groupsOf(steps)) {
      if (lease.stopping() || !(await lease.renew())) throw new HandedOver();
      const doing = (group[0] as Step).text.slice(0, 300);
      await this.store.change(environment, row.id, { doing, ...(counts ? { done: before + done } : {}) });
      await this.#together(group, calls);
      done += group.length;
    }
    if (counts) await this.store.change(environment, row.id, { done: before + done });
  }

  /** Waits for all, so that nothing is under way when it goes back. @throws the first failure */
  async #together(group: Step[], calls: SetupCalls): Promise<void> {
    const results = await Promise.allSettled(group.map((step) => step.run(calls)));
    const failed = results.findIndex(({ status }) => status === 'rejected');
    if (failed < 0) return;
    const { reason } = results[failed] as PromiseRejectedResult;
    throw reason instanceof Problem ? new StepRefused(group[failed] as Step, reason) : reason;
  }

  async #end(environment: Environment, row: ReleaseRow, state: ReleaseRow['state'], problem: string | null): Promise<void> {
    const endedAt = new Date(this.parts.now());
    await this.store.change(environment, row.id, { state, problem: problem?.slice(0, 2000) ?? null, doing: null, endedAt });
  }
}

/** Steps that may be done at the same time. */
const AT_ONCE = 4;

function groupsOf(steps: Step[]): Step[][] {
  const groups: Step[][] = [];
  for (const step of steps) {
    const last = groups.at(-1);
    if (step.beside && last?.[0]?.beside === step.beside && last[0].phase === step.phase && last.length < AT_ONCE) last.push(step);
    else groups.push([step]);
  }
  return groups;
}

/** Going back, a field that was renamed gets its name again, and keeps its values. */
function withFormerNames(before: SetupParts, now: SetupParts, wanted: SetupParts): SetupParts {
  const collections = Object.fromEntries(
    Object.entries(before.collections ?? {}).map(([name, part]) => {
      const was = (wanted.collections?.[name]?.fields ?? {}) as { [field: string]: { was?: string } };
      const present = (now.collections?.[name]?.fields ?? {}) as object;
      const fields = Object.fromEntries(
        Object.entries((part.fields ?? {}) as { [field: string]: object }).map(([field, definition]) => {
          const newer = Object.keys(was).find((other) => was[other]?.was === field && Object.hasOwn(present, other));
          return [field, newer && !Object.hasOwn(present, field) ? { ...definition, was: newer } : definition];
        }),
      );
      return [name, { ...part, fields }];
    }),
  );
  return { ...before, collections } as SetupParts;
}
