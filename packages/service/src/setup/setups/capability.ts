import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { RELEASE_JOB, Releasing } from './releasing.js';
import { setupRoutes } from './routes.js';
import { ReleaseStore } from './store.js';

export function setups(parts: Parts): Capability {
  const store = new ReleaseStore();
  return { name: 'setup', routes: setupRoutes(parts, store), jobs: { [RELEASE_JOB]: new Releasing(parts, store).job } };
}
