import type { Capability } from '../../platform/capability.js';
import { DIGEST_JOB, Digests } from './digests.js';
import type { Parts } from './parts.js';
import { reportingRoutes } from './routes.js';

const MINUTE_MS = 60_000;

export function reports(parts: Parts): Capability<{ digests: Digests }> {
  const digests = new Digests(parts);
  return {
    name: 'reports',
    offer: { digests },
    routes: reportingRoutes(parts, digests),
    jobs: { [DIGEST_JOB]: { work: digests.work, atOnce: 2 } },
    recurring: [{ work: 'queue digests', everyMs: MINUTE_MS, run: () => digests.queueDue() }],
  };
}
