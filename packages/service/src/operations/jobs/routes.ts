import { type Job, operations, Problem } from '@orchard/contract';
import { orNone } from '../../platform/audit/audit.js';
import { bind, type Call, environmentOf, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { dropJob, listJobs, retryJob } from './store.js';

type OneCall = Pick<Call, 'environment'> & { params: { job: string } };

export function jobRoutes(parts: Parts): Route[] {
  const own = operations.jobs;
  const audited = { read: (call: OneCall) => orNone(demandJob(parts, call)) };
  return [
    bind(own.list, async (call) => ({ body: await listJobs(environmentOf(call), call.query, parts) })),
    bind(own.retry, (call) => retry(parts, call), audited),
    bind(own.drop, (call) => drop(parts, call), audited),
  ];
}

async function retry(parts: Parts, call: OneCall) {
  const environment = environmentOf(call);
  await demandJob(parts, call);
  await retryJob(environment.db, call.params.job, new Date(parts.now()));
  void parts.jobs.wake(environment);
  return { body: await demandJob(parts, call) };
}

async function drop(parts: Parts, call: OneCall) {
  await demandJob(parts, call);
  await dropJob(environmentOf(call).db, call.params.job);
  return { body: undefined };
}

/** @throws {Problem} not-found */
async function demandJob(parts: Parts, call: OneCall): Promise<Job> {
  const { job } = call.params;
  const { items } = await listJobs(environmentOf(call), { filter: `id = '${job.replaceAll("'", "''")}'`, limit: 1 }, parts);
  if (!items[0]) throw new Problem('not-found', `There is no job ${job}. It may be finished; \`orchard job list\` lists them.`);
  return items[0];
}
