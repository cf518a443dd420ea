import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import type { Parts } from './parts.js';
import { standingRoutes } from './routes.js';
import { LOOK_MS, lookForDue, STANDING_JOB, standingWorker } from './sending.js';
import { StandingStore } from './store.js';
import { standingSentTable } from './tables.js';

export function standing(parts: Parts): Capability {
  const store = new StandingStore();
  return {
    name: 'standing notifications',
    routes: standingRoutes(parts, store),
    jobs: { [STANDING_JOB]: { work: standingWorker(parts, store), returns: true } },
    recurring: [
      {
        work: 'look for due standing notifications',
        everyMs: LOOK_MS,
        eachEnvironment: (environment) => lookForDue(parts, store, environment),
      },
    ],
    marks: [{ name: 'standing', of: ({ db }) => ({ sql: latestSql(db.of(standingSentTable), 'at') }) }],
    onUserRemoved: ({ on, environment, userId }) => store.releaseUser(on, environment, userId),
  };
}
