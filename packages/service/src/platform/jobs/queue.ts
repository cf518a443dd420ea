/**
 * Work that outlives a call. A job has a lease while it is worked on; when its instance dies, the lease runs out and
 * another takes it. One that fails is tried again, later each time, and given up in the end: it stays, with its last
 * error, until somebody retries or drops it. Recurring work is a job of the installation: one instance does it.
 */
import type { Logger } from 'pino';
import { apart, isDatabaseAway, isGone, type Statements } from '../database/connection.js';
import type { EnvironmentDatabase } from '../database/environmentDatabase.js';
import { type Due, DueWorkStore } from './dueWorkStore.js';
import { type Job as StoredJob, JobStore } from './jobStore.js';

/** Whose jobs they are: an environment, or the installation itself. */
export type JobPlace = { id: string; db: EnvironmentDatabase };
export type Job = StoredJob & { environmentId: string };
/** Works on a job. @returns null when it is done, a step to take once its row is gone, or when to run it again */
export type Worker = (job: Job, lease: Lease) => Promise<Date | null | (() => Promise<void>)>;
export type Lease = {
  /** Prolongs it; false when it was lost, and the work must stop. */
  renew: () => Promise<boolean>;
  /** True when the service is stopping: come to an end soon. */
  stopping: () => boolean;
};
/** Told of a job that is not tried any more. */
export type GivenUp = (job: Job, error: string) => Promise<unknown>;
export type JobKind = {
  work: Worker;
  /** How many of the kind one instance works on at a time. */
  atOnce?: number;
  /** Comes round for ever; it is tried again after a failure, and never given up. */
  everyMs?: number;
};

const LEASE_MS = 30_000;
const POLL_MS = 500;
/** Jobs that one instance works on at a time. A kind with none running may always have one more, so that none starves. */
const HANDS = 4;
/** Environments looked at in one pass. */
const MOST_DUE = 100;
/** Most failures in a row; with the waits between them that is about an hour. */
export const MOST_ATTEMPTS = 12;
const FIRST_WAIT_MS = 3_000;
const LONGEST_WAIT_MS = 600_000;

type Ground = {
  /** The system database. */
  system: Statements;
  installation: JobPlace;
  find: (environmentId: string) => Promise<JobPlace | null>;
  /** Names this instance, also after a restart on the same directory. */
  owner: string;
  now: () => number;
  newId: () => string;
  log: Logger;
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
  /** The environment served last: the next pass begins after it, so that one with much to do keeps none waiting. */
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
  add(on: Statements, { db }: JobPlace, kind: string, subject: string, at = this.#date(), priority = 0): Promise<void> {
    return this.#store.add(on, db, { id: this.ground.newId(), kind, subject, priority, runAt: at, createdAt: this.#date() });
  }

  /** Tells all instances that an environment has work due, and looks at once here. */
  async wake({ id }: Pick<JobPlace, 'id'>, at = this.#date()): Promise<void> {
    try {
      await this.#dueWork.note(id, at);
      await this.look();
    } catch (error) {
      // The sweep finds what was not noted.
      if (!isDatabaseAway(error)) this.ground.log.warn({ err: error, environment: id }, 'work that is due could not be noted');
    }
  }

  /** What waits for later may go now. */
  async hasten(place: JobPlace, kind: string): Promise<void> {
    await this.#store.hasten(place.db, kind, this.#date());
    void this.wake(place);
  }

  /** Takes up an environment at the start: what this instance held before is free, and what is due is noted. */
  async resume(place: JobPlace): Promise<void> {
    await this.#store.release(place.db, this.ground.owner);
    await this.sweep(place);
  }

  /** Notes what is due in an environment, whoever forgot to. */
  async sweep(place: JobPlace): Promise<void> {
    const next = await this.#store.nextAt(place.db);
    if (next) await this.#dueWork.note(place.id, next);
  }

  /** The environment is gone, and its jobs with it. */
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

  /** Takes what is due, as far as hands are free. */
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

  /** One job of each environment in turn, until there are no more, or no hands. */
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
    const place = due.environmentId === installation.id ? installation : await find(due.environmentId);
    if (!place) {
      await this.#dueWork.forget(due.environmentId);
      return false;
    }
    try {
      const job = await this.#store.take(place.db, kinds, this.#date(), owner, new Date(now() + LEASE_MS));
      if (job) {
        this.#last = place.id;
        this.#begin(place, job);
        return true;
      }
      // What is due and was not taken is of a kind that is busy here, or that only another version knows.
      const next = await this.#store.nextAt(place.db);
      if (!next || next.getTime() > now()) await this.#dueWork.settle(due, next);
    } catch (error) {
      if (!isGone(error)) throw error;
      await this.#dueWork.settle(due, null);
    }
    return false;
  }

  /** Kinds that this instance knows and has a hand free for. */
  #free(): string[] {
    const all = this.#running.size;
    return [...this.#kinds].flatMap(([kind, { atOnce = HANDS }]) => {
      const busy = this.#busy.get(kind) ?? 0;
      return busy === 0 || (all < HANDS && busy < atOnce) ? [kind] : [];
    });
  }

  #begin(place: JobPlace, job: StoredJob): void {
    this.#count(job.kind, 1);
    const work = this.#run(place, { ...job, environmentId: place.id }).finally(() => {
      this.#running.delete(work);
      this.#count(job.kind, -1);
      void this.look();
    });
    this.#running.add(work);
  }

  #count(kind: string, change: number): void {
    this.#busy.set(kind, (this.#busy.get(kind) ?? 0) + change);
  }

  async #run({ db }: JobPlace, job: Job): Promise<void> {
    const { owner, now } = this.ground;
    const how = this.#kinds.get(job.kind) as JobKind;
    const renew = () => this.#store.renew(db, job.id, owner, new Date(now() + LEASE_MS));
    // A batch at a slow network can take longer than a lease; while this instance lives, the work stays its own.
    const heartbeat = setInterval(() => void renew().catch(() => undefined), LEASE_MS / 3);
    try {
      const again = await how.work(job, { renew, stopping: () => this.#stopping });
      clearInterval(heartbeat);
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
      // With the database away this fails as well; then the job is taken again when its lease runs out.
      await this.#failed(db, job, how, error).catch(() => undefined);
    } finally {
      clearInterval(heartbeat);
    }
  }

  /** A database that is away is nobody's failure. */
  async #failed(db: EnvironmentDatabase, job: Job, { everyMs }: JobKind, error: unknown): Promise<void> {
    const attempts = job.attempts + (isDatabaseAway(error) ? 0 : 1);
    const gaveUp = attempts >= MOST_ATTEMPTS && everyMs === undefined;
    const now = this.ground.now();
    const wait = Math.min(LONGEST_WAIT_MS, everyMs ?? LONGEST_WAIT_MS, FIRST_WAIT_MS * 2 ** Math.max(0, attempts - 1));
    const lastError = (error instanceof Error ? error.message : String(error)).slice(0, 1000);
    this.ground.log.error(
      { err: error, job: job.id, kind: job.kind, attempts },
      gaveUp ? 'a job was given up' : 'a job failed and will be tried again',
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

  /** Lets running work come to an end; what is left stays as rows. */
  async stop(): Promise<void> {
    this.#stopping = true;
    if (this.#timer) clearInterval(this.#timer);
    await Promise.all(this.#running);
  }
}
