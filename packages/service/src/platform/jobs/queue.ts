/**
 * Work that outlives a call. A job has a lease while it is worked on; when its instance dies, the lease runs out and another
 * takes it. A failing job is retried with back-off, and given up in the end: it stays, with its last error, until a member
 * retries or drops it. Recurring work is a job of the installation: one instance does it.
 */
import { Problem } from '@orchard/contract';
import type { Logger } from 'pino';
import { apart, type Statements } from '../database/connection.js';
import { isDatabaseAway, isDatabaseUnable, isGone } from '../database/errors.js';
import type { EnvironmentDatabase } from '../database/environmentDatabase.js';
import { afterCommit, isInUnit } from '../database/unit.js';
import { type Due, DueWorkStore } from './dueWorkStore.js';
import { type Job as StoredJob, JobStore } from './jobStore.js';

/** Whose jobs they are: an environment, or the installation itself. */
export type JobDatabase = { id: string; db: EnvironmentDatabase };
export type Job = StoredJob & { environmentId: string };
/**
 * Works on a job.
 * @returns null when it is done, a function to run once its row is deleted, or the time to run it again
 */
export type Worker = (job: Job, lease: Lease) => Promise<Date | null | (() => Promise<void>)>;
export type Lease = {
  /** Renews the lease; false when it was lost, and the work must stop. */
  renew: () => Promise<boolean>;
  /** True when the service is stopping: finish soon. */
  stopping: () => boolean;
};
/** Called for a job that is given up. */
export type GivenUp = (job: Job, error: string) => Promise<unknown>;
export type JobKind = {
  work: Worker;
  /** How many jobs of the kind one instance works on at a time. */
  atOnce?: number;
  /** Whether its jobs go on in an environment that was restored. Others have been done since the backup, or nobody waits for them. */
  returns?: true;
  /** Recurs forever; it is retried after a failure and never given up. */
  everyMs?: number;
};

const LEASE_MS = 30_000;
const POLL_MS = 500;
/** Jobs that one instance works on at a time. A kind with none running may always have one more, so that none starves. */
const HANDS = 4;
/** Environments checked in one pass. */
const MOST_DUE = 100;
/** The most consecutive failures; with back-off they take about an hour. */
export const MOST_ATTEMPTS = 12;
const FIRST_WAIT_MS = 3_000;
const LONGEST_WAIT_MS = 600_000;

type Ground = {
  /** The system database. */
  system: Statements;
  installation: JobDatabase;
  find: (environmentId: string) => Promise<JobDatabase | null>;
  /** Names this instance, also after a restart on the same directory. */
  owner: string;
  now: () => number;
  newId: () => string;
  log: Logger;
  /** A run of a job has ended. */
  worked: (at: JobDatabase, kind: string, failed: boolean, durationUs: number) => void;
};

export class JobQueue {
  readonly #kinds = new Map<string, JobKind>();
  readonly #running = new Set<Promise<void>>();
  readonly #busy = new Map<string, number>();
  readonly #store = new JobStore();
  readonly #dueWork: DueWorkStore;
  #givenUp: GivenUp = async () => undefined;
  #timer: NodeJS.Timeout | null = null;
  #stopping = false;
  #looking = false;
  #again = false;
  /** The environment served last: the next pass begins after it, so that a busy one delays no other. */
  #last = '';

  constructor(private readonly ground: Ground) {
    this.#dueWork = new DueWorkStore(ground.system);
  }

  on(kind: string, how: JobKind): void {
    this.#kinds.set(kind, how);
  }

  onGivenUp(told: GivenUp): void {
    this.#givenUp = told;
  }

  /**
   * Adds a job in the transaction of what it is about; {@link wake} follows once that is committed. A subject has one
   * job of a kind: adding it again moves the one there is, also while it is worked on; then it is worked on once more.
   */
  add(on: Statements, { db }: JobDatabase, kind: string, subject: string, at = this.#date(), priority = 0): Promise<void> {
    return this.#store.add(on, db, { id: this.ground.newId(), kind, subject, priority, runAt: at, createdAt: this.#date() });
  }

  /** Records that an environment has work due, for all instances, and checks at once here. */
  async wake({ id }: Pick<JobDatabase, 'id'>, at = this.#date()): Promise<void> {
    if (isInUnit()) return afterCommit(() => void this.wake({ id }, at));
    try {
      await this.#dueWork.note(id, at);
      await this.look();
    } catch (error) {
      // The sweep finds what was not recorded.
      if (!isDatabaseAway(error)) this.ground.log.warn({ err: error, environment: id }, 'due work could not be recorded');
    }
  }

  /** Deferred jobs may run now. */
  async hasten(at: JobDatabase, kind: string): Promise<void> {
    await this.#store.hasten(at.db, kind, this.#date());
    void this.wake(at);
  }

  /** Prepares environments at the start: releases jobs this instance held before, and records what is due. */
  async resume(all: readonly JobDatabase[]): Promise<void> {
    for (const { db } of await this.#store.holding(all, this.ground.owner)) await this.#store.release(db, this.ground.owner);
    const next = await this.#store.nextOfEach(all);
    await this.#dueWork.noteAll([...next].map(([{ id }, at]) => [id, at]));
  }

  /** Records what is due in an environment, in case a wake-up was lost. */
  async sweep(at: JobDatabase): Promise<void> {
    const next = await this.#store.nextAt(at.db);
    if (next) await this.#dueWork.note(at.id, next);
  }

  /** Of an environment that was restored: removes the jobs that must not be done once more; of a copy, all. */
  async dropReturned({ db }: JobDatabase, isCopy: boolean): Promise<void> {
    const returning = [...this.#kinds].flatMap(([kind, { returns }]) => (returns ? [kind] : []));
    await this.#store.dropOthers(db, isCopy ? [] : returning);
  }

  /** The environment was deleted, and its jobs with it. */
  forget(environmentId: string): Promise<void> {
    return this.#dueWork.forget(environmentId);
  }

  async start(): Promise<void> {
    const { installation } = this.ground;
    await this.#store.release(installation.db, this.ground.owner);
    for (const [kind, { everyMs }] of this.#kinds)
      if (everyMs !== undefined) await this.#store.ensure(installation.db, this.ground.newId(), kind, this.#date());
    await this.#dueWork.note(installation.id, this.#date());
    this.#timer = setInterval(() => void this.look(), POLL_MS);
  }

  /** Takes due jobs while workers are free. */
  look(): Promise<void> {
    return apart(() => this.#look());
  }

  async #look(): Promise<void> {
    if (this.#stopping) return;
    this.#again = true;
    if (this.#looking) return;
    this.#looking = true;
    try {
      while (this.#again && !this.#stopping) {
        this.#again = false;
        const due = await this.#dueWork.due(this.#date(), MOST_DUE);
        await this.#serve(this.#inTurn(due));
      }
    } catch (error) {
      if (!isDatabaseAway(error)) this.ground.log.error({ err: error }, 'jobs could not be taken');
    } finally {
      this.#looking = false;
    }
  }

  #inTurn(due: readonly Due[]): Due[] {
    const sorted = [...due].sort((a, b) => (a.environmentId < b.environmentId ? -1 : 1));
    const after = sorted.findIndex(({ environmentId }) => environmentId > this.#last);
    return after < 0 ? sorted : [...sorted.slice(after), ...sorted.slice(0, after)];
  }

  /** One job of each environment in turn, until there are no more jobs or no free workers. */
  async #serve(due: Due[]): Promise<void> {
    let waiting = due;
    while (waiting.length > 0 && this.#free().length > 0 && !this.#stopping) {
      const more: Due[] = [];
      for (const one of waiting) if (await this.#takeFrom(one)) more.push(one);
      waiting = more;
    }
  }

  /** @returns whether a job was taken, so that there may be another */
  async #takeFrom(due: Due): Promise<boolean> {
    const kinds = this.#free();
    if (kinds.length === 0) return false;
    const { installation, find, owner, now } = this.ground;
    const at = due.environmentId === installation.id ? installation : await find(due.environmentId);
    if (!at) {
      await this.#dueWork.forget(due.environmentId);
      return false;
    }
    try {
      const job = await this.#store.take(at.db, kinds, this.#date(), owner, new Date(now() + LEASE_MS));
      if (job) {
        this.#last = at.id;
        this.#begin(at, job);
        return true;
      }
      // Due jobs that were not taken are of a kind that is busy here, or that only another version knows.
      const next = await this.#store.nextAt(at.db);
      if (!next || next.getTime() > now()) await this.#dueWork.settle(due, next);
    } catch (error) {
      if (!isGone(error)) throw error;
      await this.#dueWork.settle(due, null);
    }
    return false;
  }

  /** Kinds for which this instance has a free worker. */
  #free(): string[] {
    const all = this.#running.size;
    return [...this.#kinds].flatMap(([kind, { atOnce = HANDS }]) => {
      const busy = this.#busy.get(kind) ?? 0;
      return busy === 0 || (all < HANDS && busy < atOnce) ? [kind] : [];
    });
  }

  #begin(at: JobDatabase, job: StoredJob): void {
    this.#count(job.kind, 1);
    const work = this.#run(at, { ...job, environmentId: at.id }).finally(() => {
      this.#running.delete(work);
      this.#count(job.kind, -1);
      void this.look();
    });
    this.#running.add(work);
  }

  #count(kind: string, change: number): void {
    this.#busy.set(kind, (this.#busy.get(kind) ?? 0) + change);
  }

  async #run(at: JobDatabase, job: Job): Promise<void> {
    const { owner, now, worked } = this.ground;
    const { db } = at;
    const began = performance.now();
    let counted = false;
    const ended = (failed: boolean) => {
      if (!counted) worked(at, job.kind, failed, (performance.now() - began) * 1000);
      counted = true;
    };
    const how = this.#kinds.get(job.kind) as JobKind;
    const renew = () => this.#store.renew(db, job.id, owner, new Date(now() + LEASE_MS));
    // A batch at a slow network can take longer than a lease; a living instance keeps its work.
    const heartbeat = setInterval(() => void renew().catch(() => undefined), LEASE_MS / 3);
    try {
      const again = await how.work(job, { renew, stopping: () => this.#stopping });
      clearInterval(heartbeat);
      ended(false);
      const next = how.everyMs === undefined ? again : new Date(now() + how.everyMs);
      if (next instanceof Date) {
        await this.#store.giveBack(db, job.id, owner, next);
        await this.#dueWork.note(job.environmentId, next);
      } else {
        // Added again meanwhile, it is due again.
        if (!(await this.#store.done(db, job, owner))) await this.#dueWork.note(job.environmentId, this.#date());
        await next?.();
      }
    } catch (error) {
      if (!mustWait(error)) ended(true);
      // While the database is unavailable this fails as well; then the job is taken again when its lease expires.
      await this.#failed(db, job, how, error).catch(() => undefined);
    } finally {
      clearInterval(heartbeat);
    }
  }

  async #failed(db: EnvironmentDatabase, job: Job, { everyMs }: JobKind, error: unknown): Promise<void> {
    const attempts = job.attempts + (mustWait(error) ? 0 : 1);
    const gaveUp = attempts >= MOST_ATTEMPTS && everyMs === undefined;
    const now = this.ground.now();
    const wait = Math.min(LONGEST_WAIT_MS, everyMs ?? LONGEST_WAIT_MS, FIRST_WAIT_MS * 2 ** Math.max(0, attempts - 1));
    const lastError = (error instanceof Error ? error.message : String(error)).slice(0, 1000);
    if (isBusy(error)) this.ground.log.info({ job: job.id, kind: job.kind, lastError }, 'a job waits for another one');
    else
      this.ground.log.error(
        { err: error, job: job.id, kind: job.kind, attempts },
        gaveUp ? 'a job was given up' : 'a job failed and will be retried',
      );
    const kept = await this.#store.failed(db, job.id, this.ground.owner, {
      runAt: new Date(now + wait),
      attempts,
      lastError,
      failedAt: new Date(now),
      gaveUpAt: gaveUp ? new Date(now) : null,
    });
    if (gaveUp && kept) await this.#givenUp(job, lastError);
    else await this.#dueWork.note(job.environmentId, new Date(now + wait));
  }

  #date(): Date {
    return new Date(this.ground.now());
  }

  /** Lets running work finish; the rest stays as rows. */
  async stop(): Promise<void> {
    this.#stopping = true;
    if (this.#timer) clearInterval(this.#timer);
    await Promise.all(this.#running);
  }
}

/** Whether another job has what this one needs. */
const isBusy = (error: unknown): boolean => error instanceof Problem && error.problem === 'busy';
/** Whether it is not the job's failure. */
const mustWait = (error: unknown): boolean => isBusy(error) || isDatabaseUnable(error);
