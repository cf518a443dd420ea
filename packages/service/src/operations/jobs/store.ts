/** Jobs as the team sees them: those of one environment, as rows. */
import type { Job } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { type Columns, type ListGround, type ListRequest, listRows, plainColumns } from '../../platform/database/listing.js';
import { eq } from 'drizzle-orm';
import { jobTable } from '../../platform/jobs/tables.js';

type Row = typeof jobTable.$inferSelect & Pick<Job, 'state'>;

/** The subject of a job, for filters. */
const STATE = `CASE WHEN gaveUpAt IS NOT NULL THEN 'given-up' WHEN leaseUntil > UTC_TIMESTAMP(3) THEN 'running' WHEN attempts > 0 THEN 'failing' ELSE 'waiting' END`;
const COLUMNS: Columns = new Map([
  ...plainColumns({ text: ['id', 'kind', 'subject', 'lastError'], number: ['attempts'], time: ['runAt', 'failedAt', 'createdAt'] }),
  ['state', { sql: STATE, kind: 'text' }] as const,
]);

export function listJobs({ db }: Environment, request: ListRequest, ground: ListGround) {
  const select = `SELECT *, ${STATE} AS state FROM ${db.of(jobTable)}`;
  return listRows(db, { select, columns: COLUMNS, sort: 'runAt', tie: { field: 'id', descending: false } }, request, ground, present);
}

export async function retryJob(db: EnvironmentDatabase, id: string, now: Date): Promise<void> {
  await db.orm.update(db.table(jobTable)).set({ runAt: now, attempts: 0, gaveUpAt: null }).where(eq(jobTable.id, id));
}

export async function dropJob(db: EnvironmentDatabase, id: string): Promise<void> {
  await db.orm.delete(db.table(jobTable)).where(eq(jobTable.id, id));
}

const present = ({ id, kind, subject, state, runAt, attempts, lastError, failedAt, createdAt }: Row): Job => ({
  id,
  kind,
  subject,
  state,
  runAt: runAt.toISOString(),
  attempts,
  lastError,
  failedAt: failedAt?.toISOString() ?? null,
  createdAt: createdAt.toISOString(),
});
