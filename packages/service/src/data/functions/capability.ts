import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { Checker } from './checking.js';
import { FunctionDirectory } from './directory.js';
import { Fetching } from './fetching.js';
import type { Parts } from './parts.js';
import { functionRoutes } from './routes.js';
import { Running } from './running.js';
import { Sandboxes } from './sandbox/thread.js';

/** How long runs are kept. */
const KEPT_MS = 7 * 24 * HOUR_MS;

export function functions(parts: Parts): Capability {
  const [directory, checker, sandboxes] = [new FunctionDirectory(parts), new Checker(), new Sandboxes()];
  const fetching = new Fetching(parts.config.pushOrigins);
  return {
    name: 'functions',
    routes: functionRoutes(parts, { directory, checker, running: new Running(parts, sandboxes, fetching) }),
    recurring: [
      {
        work: 'forget old runs of functions',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => directory.store.forgetRuns(environment, new Date(parts.now() - KEPT_MS)),
      },
    ],
    onUserRemoved: ({ on, environment, userId }) => directory.store.releaseUser(on, environment, userId),
    stop: () => {
      sandboxes.close();
      checker.close();
      fetching.close();
    },
  };
}
