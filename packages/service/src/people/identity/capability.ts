import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { AuthorizationStore } from './authorizationStore.js';
import type { Parts } from './parts.js';
import { identityRoutes } from './routes.js';
import { SignInPage } from './signInPage.js';

/** A code that comes again is recognised for so long. */
const KEPT_MS = 24 * HOUR_MS;

export function identity(parts: Parts): Capability {
  const store = new AuthorizationStore();
  const page = new SignInPage(parts, store);
  parts.ports.accountAdding = (environment, wanted) => page.adding(environment, wanted);
  return {
    name: 'identity',
    routes: identityRoutes(parts, page),
    recurring: [
      {
        work: 'forget requests of the sign-in page',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => store.forget(environment, new Date(parts.now() - KEPT_MS)),
      },
    ],
  };
}
