import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { Checker } from './checking.js';
import { FunctionDirectory } from './directory.js';
import { Fetching } from './fetching.js';
import type { Parts } from './parts.js';
import { functionRoutes } from './routes.js';
import { RunLog } from './runLog.js';
import { Running } from './running.js';
import { Sandboxes } from './sandbox/thread.js';
import { FunctionStore } from './store.js';

/** How long runs are kept. */
const KEPT_MS = 7 * 24 * HOUR_MS;

export function functions(parts: Parts): Capability {
  const store = new FunctionStore();
  const [directory, checker, sandboxes] = [new FunctionDirectory(parts, store), new Checker(), new Sandboxes()];
  const fetching = new Fetching(parts.config.pushOrigins);
  const runLog = new RunLog(parts, store);
  return {
    name: 'functions',
    routes: functionRoutes(parts, { store, directory, checker, running: new Running(parts, sandboxes, fetching), runLog }),
    recurring: [
      {
        work: 'forget old runs of functions',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => store.forgetRuns(environment, new Date(parts.now() - KEPT_MS)),
      },
    ],
    onUserRemoved: async ({ on, environment, userId }) => {
      await runLog.flush();
      await store.releaseUser(on, environment, userId);
    },
    start: () => runLog.start(),
    stop: async () => {
      await runLog.stop();
      sandboxes.close();
      checker.close();
      fetching.close();
    },
  };
}
