import { type Job, operations, Problem } from '@orchard/contract';
import { type Columns, cutPage, type ListRequest, plainColumns, planList } from '../../platform/database/listing.js';
import { bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';

type Row = Omit<Job, 'state' | 'runAt' | 'failedAt' | 'createdAt'> & {
  runAt: Date;
  failedAt: Date | null;
  gaveUpAt: Date | null;
  leaseUntil: Date | null;
  createdAt: Date;
};

/** What a job is about, as filters see it. */
const STATE = `CASE WHEN gaveUpAt IS NOT NULL THEN 'given-up' WHEN leaseUntil > UTC_TIMESTAMP(3) THEN 'running' WHEN attempts > 0 THEN 'failing' ELSE 'waiting' END`;
const COLUMNS: Columns = new Map([
  ...plainColumns({ text: ['id', 'kind', 'subject', 'lastError'], number: ['attempts'], time: ['runAt', 'failedAt', 'createdAt'] }),
  ['state', { sql: STATE, kind: 'text' }] as const,
]);

export function jobRoutes(parts: Parts): Route[] {
  const own = operations.jobs;
  return [
    bind(own.list, async (call) => ({ body: await listJobs(parts, environmentOf(call), call.query) })),
    bind(own.retry, async (call) => {
      await demandJob(parts, call);
      await parts.database.change('UPDATE jobs SET runAt = ?, attempts = 0, gaveUpAt = NULL WHERE id = ? AND environmentId = ?', [
        new Date(parts.now()),
        call.params.job,
        environmentOf(call).id,
      ]);
      void parts.jobs.look();
      return { body: await demandJob(parts, call) };
    }),
    bind(own.drop, async (call) => {
      await demandJob(parts, call);
      await parts.database.change('DELETE FROM jobs WHERE id = ? AND environmentId = ?', [call.params.job, environmentOf(call).id]);
      return { body: undefined };
    }),
  ];
}

async function listJobs(parts: Parts, environment: Environment, request: ListRequest) {
  const plan = planList(COLUMNS, { ...request, sort: request.sort || 'runAt' }, { field: 'id', descending: false }, parts);
  const rows = await parts.database.rows<Row>(
    `SELECT id, kind, subject, runAt, attempts, lastError, failedAt, gaveUpAt, leaseUntil, createdAt, ${STATE} AS state FROM jobs
     WHERE environmentId = ? AND ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
    [environment.id, ...plan.values],
  );
  return cutPage(
    rows,
    plan,
    parts,
    (row, field) => row[field as keyof Row],
    (row) => present(row as Row & Pick<Job, 'state'>),
  );
}

async function demandJob(parts: Parts, call: Pick<Call, 'environment'> & { params: { job: string } }): Promise<Job> {
  const { job } = call.params;
  const { items } = await listJobs(parts, environmentOf(call), { filter: `id = '${job.replaceAll("'", "''")}'`, limit: 1 });
  if (!items[0])
    throw new Problem('not-found', `There is no job ${job}. It may be done by now; \`orchard job list\` shows those there are.`);
  return items[0];
}

function present({ gaveUpAt: _g, leaseUntil: _l, runAt, failedAt, createdAt, ...row }: Row & Pick<Job, 'state'>): Job {
  return { ...row, runAt: runAt.toISOString(), failedAt: failedAt?.toISOString() ?? null, createdAt: createdAt.toISOString() };
}
