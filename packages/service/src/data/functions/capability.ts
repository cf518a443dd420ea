import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { CALL_JOB, Calls } from './calls.js';
import { Checker } from './checking.js';
import { FunctionDirectory } from './directory.js';
import { endpointsOf } from './document.js';
import { Fetching } from './fetching.js';
import type { Ground } from './ground.js';
import { Hooks } from './hooks.js';
import type { Parts, Stands } from './parts.js';
import { emptyFunctionPorts } from './ports.js';
import { functionRoutes } from './routes.js';
import { RunLog } from './runLog.js';
import { Running } from './running.js';
import { Sandboxes } from './sandbox/thread.js';
import { SCHEDULE_JOB, Schedules } from './schedules.js';
import { secretOf } from './secrets.js';
import { FunctionStore } from './store.js';
import { functionRunTable } from './tables.js';

/** How long runs are kept. */
const KEPT_MS = 7 * 24 * HOUR_MS;

export function functions(stands: Stands): Capability<Omit<Parts, keyof Stands>> {
  const offer = { functionPorts: emptyFunctionPorts() };
  const parts: Parts = { ...stands, ...offer };
  const store = new FunctionStore();
  const [checker, sandboxes, runLog] = [new Checker(), new Sandboxes(), new RunLog(parts, store)];
  const fetching = new Fetching(parts.config.pushOrigins);
  const running = new Running(parts, sandboxes, fetching);
  const ground: Ground = { store, directory: new FunctionDirectory(parts, store), checker, running, runLog };
  const calls = new Calls(parts, ground);
  const schedules = new Schedules(parts, ground, calls);
  offer.functionPorts.secret = (environment, name) => secretOf(ground, environment)(name);
  offer.functionPorts.uses = async (environment, since) => {
    await runLog.flush();
    return store.uses(environment, since);
  };
  offer.functionPorts.endpoints = (environment) => endpointsOf(ground, environment);
  const hooks = new Hooks(parts, ground, calls);
  parts.recordPorts.hooks = hooks.records;
  parts.ports.hooks = hooks.actions;
  return {
    name: 'functions',
    offer,
    routes: functionRoutes(parts, { ...ground, calls, schedules }),
    jobs: { [CALL_JOB]: calls.job, [SCHEDULE_JOB]: schedules.job },
    recurring: [
      {
        work: 'forget old runs of functions',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => store.forgetRuns(environment, new Date(parts.now() - KEPT_MS)),
      },
    ],
    marks: [{ name: 'functions', of: ({ db }) => ({ sql: latestSql(db.of(functionRunTable), 'at') }) }],
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
