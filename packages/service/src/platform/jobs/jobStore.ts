/** Jobs as rows: in the database of the environment they belong to, added in the transaction of what they follow from. */
import { askEach } from '../database/askEach.js';
import type { Statements } from '../database/connection.js';
import { isDeadlock } from '../database/errors.js';
import type { EnvironmentDatabase } from '../database/environmentDatabase.js';
import { jobTable } from './tables.js';

export type Job = { id: string; kind: string; subject: string; runAt: Date; attempts: number };
export type NewJob = Pick<Job, 'id' | 'kind' | 'subject' | 'runAt'> & { priority: number; createdAt: Date };
export type Failure = { runAt: Date; attempts: number; lastError: string; failedAt: Date; gaveUpAt: Date | null };

type HasJobs = { db: EnvironmentDatabase };

const nextSql = (db: EnvironmentDatabase): string =>
  `SELECT MIN(GREATEST(runAt, COALESCE(leaseUntil, runAt))) FROM ${db.of(jobTable)} WHERE gaveUpAt IS NULL`;

/** The queue's rules, one statement each. Raw, since Drizzle's builder prepares nothing and these run constantly. */
export class JobStore {
  /** A subject has one job of a kind: to add it again moves the one there is, also while it is worked on. */
  async add(on: Statements, db: EnvironmentDatabase, job: NewJob): Promise<void> {
    await on.change(
      `INSERT INTO ${db.of(jobTable)} (id, kind, subject, priority, runAt, createdAt) VALUES (?, ?, ?, ?, ?, ?)
       ON DUPLICATE KEY UPDATE runAt = VALUES(runAt), attempts = 0, gaveUpAt = NULL`,
      [job.id, job.kind, job.subject, job.priority, job.runAt, job.createdAt],
    );
  }

  /** Adds a job without a subject, where there is none of its kind. */
  async ensure(db: EnvironmentDatabase, id: string, kind: string, now: Date): Promise<void> {
    await db.change(`INSERT IGNORE INTO ${db.of(jobTable)} (id, kind, subject, runAt, createdAt) VALUES (?, ?, '', ?, ?)`, [
      id,
      kind,
      now,
      now,
    ]);
  }

  /**
   * Leases the next job that is due of one of these kinds. On a Galera cluster two nodes may lease the same row; the
   * second commit fails, and finds another the next time.
   */
  async take(db: EnvironmentDatabase, kinds: readonly string[], now: Date, owner: string, until: Date): Promise<Job | null> {
    try {
      return await db.transaction(async (on) => {
        const [job] = await on.runRows<Job>(
          `SELECT id, kind, subject, runAt, attempts FROM ${db.of(jobTable)}
           WHERE runAt <= ? AND (leaseUntil IS NULL OR leaseUntil < ?) AND gaveUpAt IS NULL AND kind IN (?)
           ORDER BY priority, runAt LIMIT 1 FOR UPDATE SKIP LOCKED`,
          [now, now, kinds],
        );
        if (job) await on.change(`UPDATE ${db.of(jobTable)} SET leaseUntil = ?, leasedBy = ? WHERE id = ?`, [until, owner, job.id]);
        return job ?? null;
      });
    } catch (error) {
      if (isDeadlock(error)) return null;
      throw error;
    }
  }

  async renew(db: EnvironmentDatabase, id: string, owner: string, until: Date): Promise<boolean> {
    const { affectedRows } = await db.change(`UPDATE ${db.of(jobTable)} SET leaseUntil = ? WHERE id = ? AND leasedBy = ?`, [
      until,
      id,
      owner,
    ]);
    return affectedRows === 1;
  }

  /** Deletes the job, unless it was added again meanwhile; then it is due again. @returns whether it was deleted */
  async done(db: EnvironmentDatabase, job: Job, owner: string): Promise<boolean> {
    const { affectedRows } = await db.change(`DELETE FROM ${db.of(jobTable)} WHERE id = ? AND leasedBy = ? AND runAt = ?`, [
      job.id,
      owner,
      job.runAt,
    ]);
    if (affectedRows === 0)
      await db.change(`UPDATE ${db.of(jobTable)} SET leaseUntil = NULL, leasedBy = NULL, attempts = 0 WHERE id = ? AND leasedBy = ?`, [
        job.id,
        owner,
      ]);
    return affectedRows === 1;
  }

  async giveBack(db: EnvironmentDatabase, id: string, owner: string, runAt: Date): Promise<void> {
    await db.change(
      `UPDATE ${db.of(jobTable)} SET runAt = ?, leaseUntil = NULL, leasedBy = NULL, attempts = 0 WHERE id = ? AND leasedBy = ?`,
      [runAt, id, owner],
    );
  }

  /** @returns false when the lease was lost meanwhile */
  async failed(
    db: EnvironmentDatabase,
    id: string,
    owner: string,
    { runAt, attempts, lastError, failedAt, gaveUpAt }: Failure,
  ): Promise<boolean> {
    const { affectedRows } = await db.change(
      `UPDATE ${db.of(jobTable)} SET runAt = ?, attempts = ?, lastError = ?, failedAt = ?, gaveUpAt = ?, leaseUntil = NULL, leasedBy = NULL WHERE id = ? AND leasedBy = ?`,
      [runAt, attempts, lastError, failedAt, gaveUpAt, id, owner],
    );
    return affectedRows === 1;
  }

  /** When the next job can be taken, leases included; null when there is none. */
  async nextAt(db: EnvironmentDatabase): Promise<Date | null> {
    const [row] = await db.rows<{ at: Date | null }>(`SELECT (${nextSql(db)}) AS at`);
    return row?.at ?? null;
  }

  /** The same of many; those without any are left out. */
  async nextOfEach<D extends HasJobs>(all: readonly D[]): Promise<Map<D, Date>> {
    const next = await askEach<Date | null, D>(all, nextSql);
    return new Map([...next].flatMap(([one, at]) => (at ? [[one, at]] : [])));
  }

  /** Those with jobs of this owner. */
  async holding<D extends HasJobs>(all: readonly D[], owner: string): Promise<D[]> {
    const held = await askEach<number, D>(all, (db) => `SELECT COUNT(*) FROM ${db.of(jobTable)} WHERE leasedBy = ?`, [owner]);
    return all.filter((one) => Number(held.get(one)) > 0);
  }

  /** Releases the jobs of a dead instance at once. */
  async release(db: EnvironmentDatabase, owner: string): Promise<void> {
    await db.change(`UPDATE ${db.of(jobTable)} SET leaseUntil = NULL, leasedBy = NULL WHERE leasedBy = ?`, [owner]);
  }

  async dropOthers(db: EnvironmentDatabase, kept: readonly string[]): Promise<void> {
    await db.run(`DELETE FROM ${db.of(jobTable)} WHERE kind NOT IN (?)`, [['', ...kept]]);
  }

  async hasten(db: EnvironmentDatabase, kind: string, now: Date): Promise<void> {
    await db.change(`UPDATE ${db.of(jobTable)} SET runAt = ? WHERE kind = ? AND runAt > ?`, [now, kind, now]);
  }
}

/** Whether there is a job of these kinds with a matching subject, as SQL with the pattern as its only placeholder. */
export const hasJobSql = (db: EnvironmentDatabase, kinds: readonly string[]): string =>
  `EXISTS (SELECT 1 FROM ${db.of(jobTable)} j WHERE j.kind IN (${kinds.map((kind) => `'${kind}'`).join(', ')}) AND j.subject LIKE ?)`;

/** SQL for the kinds of jobs that are due and nobody works on, each with the age of its oldest in milliseconds. */
export const backlogSql = (db: EnvironmentDatabase): string =>
  `SELECT kind, TIMESTAMPDIFF(MICROSECOND, MIN(runAt), UTC_TIMESTAMP(3)) / 1000 AS ms FROM ${db.of(jobTable)}
   WHERE gaveUpAt IS NULL AND runAt <= UTC_TIMESTAMP(3) AND (leaseUntil IS NULL OR leaseUntil < UTC_TIMESTAMP(3)) GROUP BY kind`;
