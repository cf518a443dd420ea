import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { Adding } from './adding.js';
import { ADDING, AuthorizationStore, TRYING } from './authorizationStore.js';
import { PageFrame } from './pageFrame.js';
import type { Parts } from './parts.js';
import { identityRoutes } from './routes.js';
import { SignInPage } from './signInPage.js';
import { Trying } from './trying.js';
import { Visits } from './visits.js';

/** A code that comes again is recognised for so long. */
const KEPT_MS = 24 * HOUR_MS;

export function identity(parts: Parts): Capability {
  const store = new AuthorizationStore();
  const frame = new PageFrame(parts, store);
  const [signIn, adding, trying] = [new SignInPage(frame), new Adding(frame), new Trying(frame)];
  const visits = new Visits(frame, signIn, { [ADDING]: adding, [TRYING]: trying });
  parts.ports.accountAdding = (environment, wanted) => adding.begin(environment, wanted);
  return {
    name: 'identity',
    routes: identityRoutes(parts, { signIn, adding, trying, visits }),
    recurring: [
      {
        work: 'forget requests of the sign-in page',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => store.forget(environment, new Date(parts.now() - KEPT_MS)),
      },
    ],
  };
}
