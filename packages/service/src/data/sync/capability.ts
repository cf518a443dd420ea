import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { endSyncs } from './deviceSyncStore.js';
import type { Parts } from './parts.js';
import { syncRoutes } from './routes.js';
import { endTaken } from './takenStore.js';

/** How long a change is known as taken: a device may send one again whose answer it lost weeks ago. */
const TAKEN_MS = 60 * 24 * HOUR_MS;

export function sync(parts: Parts): Capability {
  return {
    name: 'sync',
    routes: syncRoutes(parts),
    recurring: [
      {
        work: 'forget old syncs',
        everyMs: HOUR_MS,
        eachEnvironment: async (environment) => {
          await endTaken(environment, new Date(parts.now() - TAKEN_MS));
          await endSyncs(environment);
        },
      },
    ],
  };
}
