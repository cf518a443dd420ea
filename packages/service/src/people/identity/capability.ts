import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { AuthorizationStore } from './authorizationStore.js';
import { OutsideWays } from './outside.js';
import type { Parts } from './parts.js';
import { identityRoutes } from './routes.js';
import { wayRoutes } from './wayRoutes.js';

/** A code that comes again is recognised for so long. */
const KEPT_MS = 24 * HOUR_MS;

export function identity(parts: Parts): Capability {
  const store = new AuthorizationStore();
  const outside = new OutsideWays(parts, store);
  return {
    name: 'identity',
    routes: [...identityRoutes(parts, store, outside), ...wayRoutes(parts, outside)],
    stop: () => outside.close(),
    recurring: [
      {
        work: 'forget requests of the sign-in page',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => store.forget(environment, new Date(parts.now() - KEPT_MS)),
      },
    ],
  };
}
