import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import type { Parts as DeviceParts } from '../devices/parts.js';
import { FALL_BACK_JOB, fallBackWorker } from './fallBack.js';
import { GatewayCounter } from './gatewayUseStore.js';
import { hastenWaiting } from './hastening.js';
import { ResultJournal } from './journal.js';
import { finishLeftBehind, START_JOB, spreadWorker, startWorker } from './life.js';
import { notificationRoutes } from './routes.js';
import { sendingWorker, writeLeftResults } from './sending.js';
import { SEND_JOB, SPREAD_JOB } from './spreadStore.js';
import { NotificationStore } from './store.js';
import { notificationTable } from './tables.js';

/** Two slices keep a processor busy; more would only keep them from other instances. */
const SETS_AT_ONCE = 2;
/** How often work of ended instances is looked for. */
const SWEEP_MS = 20_000;

export function notifications(stands: DeviceParts): Capability<{ journal: ResultJournal }> {
  const offer = { journal: new ResultJournal(stands.config.dataDirectory) };
  const parts = { ...stands, ...offer };
  const store = new NotificationStore();
  const counter = new GatewayCounter(parts.now);
  parts.gatewayPorts.mended = (environment, gateway) => hastenWaiting(parts, environment, gateway);
  parts.gatewayPorts.use = (environment, gateways) => counter.count(environment, gateways);
  return {
    name: 'notifications',
    offer,
    routes: notificationRoutes(parts, store),
    jobs: {
      [SEND_JOB]: { work: sendingWorker(parts, store), atOnce: SETS_AT_ONCE },
      [SPREAD_JOB]: { work: spreadWorker(parts, store) },
      [START_JOB]: { work: startWorker(parts, store) },
      [FALL_BACK_JOB]: { work: fallBackWorker(parts, store) },
    },
    recurring: [
      {
        work: 'finish abandoned work',
        everyMs: SWEEP_MS,
        eachEnvironment: (environment) => finishLeftBehind(parts, store, environment),
      },
    ],
    marks: [{ name: 'deliveries', of: ({ db }) => ({ sql: latestSql(`${db.of(notificationTable)}`, 'changedAt') }) }],
    prepare: () => writeLeftResults(parts, store),
    stop: () => offer.journal.close(),
  };
}
