import type { Capability } from '../../platform/capability.js';
import type { Job } from '../../platform/jobs/queue.js';
import type { Parts } from './parts.js';
import { jobRoutes } from './routes.js';

export function jobs(parts: Parts): Capability {
  parts.jobs.onGivenUp((job, error) => tellGivenUp(parts, job, error));
  return {
    name: 'jobs',
    routes: jobRoutes(parts),
    marks: [
      {
        name: 'jobs',
        of: ({ id }) => ({
          sql: "SELECT COALESCE(SUM(CRC32(CONCAT(id, runAt, attempts, COALESCE(leasedBy, '')))), 0) FROM jobs WHERE environmentId = ?",
          values: [id],
        }),
      },
    ],
  };
}

async function tellGivenUp(parts: Parts, { id, kind, environmentId, subject }: Job, error: string): Promise<void> {
  const environment = await parts.directory.environmentById(environmentId);
  if (!environment) return;
  await parts.notices.tell({
    environmentId,
    once: `job ${id} ${parts.now()}`,
    title: `A job was given up: ${kind}`,
    body: `${subject}: ${error}. Look at it under Operations, Jobs; retry it when the cause is mended, or drop it.`,
    link: `/${environment.app}/${environment.name}/jobs?open=${id}`,
  });
}
