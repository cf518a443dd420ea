import type { Capability } from '../../platform/capability.js';
import type { Job } from '../../platform/jobs/queue.js';
import { jobTable } from '../../platform/jobs/tables.js';
import type { Parts } from './parts.js';
import { jobRoutes } from './routes.js';

/** How long due work can stay unnoticed when an instance died before it recorded it. */
const SWEEP_MS = 20_000;

export function jobs(parts: Parts): Capability {
  parts.jobs.onGivenUp((job, error) => tellGivenUp(parts, job, error));
  return {
    name: 'jobs',
    routes: jobRoutes(parts),
    recurring: [{ work: 'sweep for due work', everyMs: SWEEP_MS, eachEnvironment: (environment) => parts.jobs.sweep(environment) }],
    marks: [
      {
        name: 'jobs',
        of: ({ db }) => ({
          sql: `SELECT COALESCE(SUM(CRC32(CONCAT(id, runAt, attempts, COALESCE(leasedBy, '')))), 0) FROM ${db.of(jobTable)}`,
        }),
      },
    ],
  };
}

async function tellGivenUp(parts: Parts, { id, kind, environmentId, subject }: Job, error: string): Promise<void> {
  const environment = await parts.directory.environmentById(environmentId);
  if (!environment) return;
  parts.ports.logEntry(environment, { level: 'error', source: `job ${kind}`, text: `Given up: ${error}`, fields: { job: id, subject } });
  await parts.notices.tell({
    kind: 'job',
    environmentId,
    once: `job ${id} ${parts.now()}`,
    title: `A job was given up: ${kind}`,
    body: `${subject}: ${error}. Look at it under Operations, Jobs; retry it when the cause is fixed, or drop it.`,
    link: `/${environment.app}/${environment.name}/jobs?open=${id}`,
  });
}
