import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { auditRoutes } from './routes.js';
import { logHeads } from './verifying.js';

export function audit(platform: Platform): Capability {
  return {
    name: 'audit',
    routes: auditRoutes(platform),
    recurring: [{ work: 'log the heads of the audit chains', everyMs: HOUR_MS, run: () => logHeads(platform) }],
  };
}
