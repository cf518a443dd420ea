/**
 * Work that outlives a call: rows in the system database, taken with SKIP LOCKED. A job has a lease while it is
 * worked on; when its instance dies, the lease runs out and another takes it. One that fails is tried again, later
 * each time, and given up in the end: it stays, with its last error, until somebody retries or drops it.
 */
import type { RowDataPacket } from 'mysql2/promise';
import type { Logger } from 'pino';
import { apart, type Database, isDatabaseAway } from '../database/connection.js';

export type Job = { id: string; kind: string; environmentId: string; subject: string; runAt: Date; attempts: number };
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

const LEASE_MS = 30_000;
const POLL_MS = 500;
const AT_ONCE = 4;
/** Most failures in a row; with the waits between them that is about an hour. */
export const MOST_ATTEMPTS = 12;
const FIRST_WAIT_MS = 3_000;
const LONGEST_WAIT_MS = 600_000;

export class JobQueue {
  readonly #workers = new Map<string, { work: Worker; atOnce: number }>();
  readonly #running = new Set<Promise<void>>();
  readonly #busy = new Map<string, number>();
  #givenUp: GivenUp = async () => undefined;
  #timer: NodeJS.Timeout | null = null;
  #stopping = false;
  #looking = false;

  constructor(
    private readonly database: Database,
    private readonly instance: string,
    private readonly now: () => number,
    private readonly newId: () => string,
    private readonly log: Logger,
  ) {}

  /** @param atOnce how many of the kind this instance works on at a time; the rest is for others */
  on(kind: string, work: Worker, atOnce = AT_ONCE): void {
    this.#workers.set(kind, { work, atOnce });
  }

  onGivenUp(told: GivenUp): void {
    this.#givenUp = told;
  }

  /**
   * The statement that adds a job, to be run in the transaction of what it is about. A subject has one job of a kind:
   * adding it again moves the one there is, also while it is worked on; then it is worked on once more.
   */
  insert(kind: string, environmentId: string, subject: string, runAt = new Date(this.now())): { sql: string; values: unknown[] } {
    return {
      sql: `INSERT INTO \`${this.database.name}\`.jobs (id, kind, environmentId, subject, runAt, createdAt) VALUES (?, ?, ?, ?, ?, ?)
            ON DUPLICATE KEY UPDATE runAt = VALUES(runAt), attempts = 0, gaveUpAt = NULL`,
      values: [this.newId(), kind, environmentId, subject, runAt, new Date(this.now())],
    };
  }

  /** Begins to take jobs. What an instance before this one held on the same directory is free at once: it is gone. */
  async start(): Promise<void> {
    await this.database.change('UPDATE jobs SET leaseUntil = NULL, leasedBy = NULL WHERE leasedBy = ?', [this.instance]);
    this.#timer = setInterval(() => void this.look(), POLL_MS);
  }

  /** Takes what is due, as far as hands are free. Called by the clock, and at once when a job was added here. */
  look(): Promise<void> {
    return apart(() => this.#look());
  }

  async #look(): Promise<void> {
    if (this.#looking || this.#stopping) return;
    this.#looking = true;
    try {
      while (!this.#stopping && this.#running.size < AT_ONCE) {
        const job = await this.#take();
        if (!job) break;
        this.#count(job.kind, 1);
        const work = this.#run(job).finally(() => {
          this.#running.delete(work);
          this.#count(job.kind, -1);
          void this.look();
        });
        this.#running.add(work);
      }
    } catch (error) {
      if (!isDatabaseAway(error)) this.log.error({ err: error }, 'jobs could not be taken');
    } finally {
      this.#looking = false;
    }
  }

  #count(kind: string, change: number): void {
    this.#busy.set(kind, (this.#busy.get(kind) ?? 0) + change);
  }

  /** Only of kinds that this instance knows and has a hand free for: others may be of a newer version. */
  async #take(): Promise<Job | null> {
    const kinds = [...this.#workers].filter(([kind, { atOnce }]) => (this.#busy.get(kind) ?? 0) < atOnce).map(([kind]) => kind);
    if (kinds.length === 0) return null;
    return this.database.withConnection(async (connection) => {
      const now = this.now();
      await connection.beginTransaction();
      try {
        const [rows] = await connection.query<RowDataPacket[]>(
          `SELECT id, kind, environmentId, subject, runAt, attempts FROM jobs
           WHERE runAt <= ? AND (leaseUntil IS NULL OR leaseUntil < ?) AND gaveUpAt IS NULL AND kind IN (?) ORDER BY runAt LIMIT 1 FOR UPDATE SKIP LOCKED`,
          [new Date(now), new Date(now), kinds],
        );
        const job = rows[0] as Job | undefined;
        if (job)
          await connection.query('UPDATE jobs SET leaseUntil = ?, leasedBy = ? WHERE id = ?', [
            new Date(now + LEASE_MS),
            this.instance,
            job.id,
          ]);
        await connection.commit();
        return job ?? null;
      } catch (error) {
        await connection.rollback().catch(() => undefined);
        throw error;
      }
    });
  }

  async #run(job: Job): Promise<void> {
    const renew = async () => {
      const { affectedRows } = await this.database.change('UPDATE jobs SET leaseUntil = ? WHERE id = ? AND leasedBy = ?', [
        new Date(this.now() + LEASE_MS),
        job.id,
        this.instance,
      ]);
      return affectedRows === 1;
    };
    // A batch at a slow network can take longer than a lease; while this instance lives, the work stays its own.
    const heartbeat = setInterval(() => void renew().catch(() => undefined), LEASE_MS / 3);
    try {
      const again = await this.#workers.get(job.kind)?.work(job, { renew, stopping: () => this.#stopping });
      clearInterval(heartbeat);
      if (again instanceof Date) await this.#giveBack(job, again);
      else {
        await this.#done(job);
        await again?.();
      }
    } catch (error) {
      // With the database away this fails as well; then the job is taken again when its lease runs out.
      await this.#failed(job, error).catch(() => undefined);
    } finally {
      clearInterval(heartbeat);
    }
  }

  /** Takes the job away, unless it was added again meanwhile. */
  async #done(job: Job): Promise<void> {
    const { affectedRows } = await this.database.change('DELETE FROM jobs WHERE id = ? AND leasedBy = ? AND runAt = ?', [
      job.id,
      this.instance,
      job.runAt,
    ]);
    if (affectedRows === 0)
      await this.database.change('UPDATE jobs SET leaseUntil = NULL, leasedBy = NULL, attempts = 0 WHERE id = ? AND leasedBy = ?', [
        job.id,
        this.instance,
      ]);
  }

  async #giveBack(job: Job, runAt: Date): Promise<void> {
    await this.database.change(
      'UPDATE jobs SET runAt = ?, leaseUntil = NULL, leasedBy = NULL, attempts = 0 WHERE id = ? AND leasedBy = ?',
      [runAt, job.id, this.instance],
    );
  }

  /** A database that is away is nobody's failure. */
  async #failed(job: Job, error: unknown): Promise<void> {
    const attempts = job.attempts + (isDatabaseAway(error) ? 0 : 1);
    const gaveUp = attempts >= MOST_ATTEMPTS;
    const now = this.now();
    const wait = Math.min(LONGEST_WAIT_MS, FIRST_WAIT_MS * 2 ** Math.max(0, attempts - 1));
    const words = (error instanceof Error ? error.message : String(error)).slice(0, 1000);
    this.log.error(
      { err: error, job: job.id, kind: job.kind, attempts },
      gaveUp ? 'a job was given up' : 'a job failed and will be taken again',
    );
    const { affectedRows } = await this.database.change(
      'UPDATE jobs SET runAt = ?, attempts = ?, lastError = ?, failedAt = ?, gaveUpAt = ?, leaseUntil = NULL, leasedBy = NULL WHERE id = ? AND leasedBy = ?',
      [new Date(now + wait), attempts, words, new Date(now), gaveUp ? new Date(now) : null, job.id, this.instance],
    );
    if (gaveUp && affectedRows === 1) await this.#givenUp(job, words);
  }

  /** Lets running work come to an end; what is left stays as rows. */
  async stop(): Promise<void> {
    this.#stopping = true;
    if (this.#timer) clearInterval(this.#timer);
    await Promise.all(this.#running);
  }
}
