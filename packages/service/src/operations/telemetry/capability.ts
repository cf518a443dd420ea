import type { Environment } from '../../platform/call.js';
import type { Capability } from '../../platform/capability.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { Platform } from '../../platform/platform.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { keepPartitions } from '../../platform/database/partitionDdl.js';
import { Recorder } from './recorder.js';
import { NO_BODIES, RecordingSettings } from './recording.js';
import { forgetCounts, rollUp } from './rollUps.js';
import { telemetryRoutes } from './routes.js';
import { requestTable } from './tables.js';
import { usesOfCalls } from './useStore.js';

const SUM_MS = 5 * 60_000;
const COMPARE_MS = 30_000;

export function telemetry(platform: Platform): Capability<{ recorder: Recorder }> {
  const { servers, instance, now, clock, metrics, changes, log, config, ports } = platform;
  const recording = new RecordingSettings(platform);
  const recorder = new Recorder(servers.installation, instance, now, () => clock.read(), recording, ports, metrics, changes, log);
  ports.recordCall = (...call) => recorder.record(...call);
  ports.countWork = (...work) => recorder.countWork(...work);
  ports.recordExchange = (...exchange) => recorder.recordExchange(...exchange);
  ports.usesOfCalls = async (environment, since) => {
    await recorder.flush();
    return usesOfCalls(environment, since);
  };
  const partitions = (db: EnvironmentDatabase, days = config.requestDays) => keepPartitions(db, requestTable, now(), days);
  const keptIn = async (environment: Environment) => (await recording.settings.read(environment)).keptDays;
  return {
    name: 'telemetry',
    offer: { recorder },
    routes: telemetryRoutes({ ...platform, recording }),
    recurring: [
      {
        work: 'partitions of requests',
        everyMs: HOUR_MS,
        eachEnvironment: async (environment) => partitions(environment.db, (await keptIn(environment)).requests ?? config.requestDays),
      },
      {
        work: 'partitions of installation requests',
        everyMs: HOUR_MS,
        run: () => partitions(servers.installation),
      },
      { work: 'sum counts of calls', everyMs: SUM_MS, eachEnvironment: ({ db }) => rollUp(db) },
      { work: 'sum counts of installation calls', everyMs: SUM_MS, run: () => rollUp(servers.installation) },
      {
        work: 'forget old counts of calls',
        everyMs: HOUR_MS,
        eachEnvironment: async (environment) => forgetCounts(environment.db, now(), await keptIn(environment)),
      },
      {
        work: 'forget old counts of installation calls',
        everyMs: HOUR_MS,
        run: () => forgetCounts(servers.installation, now(), NO_BODIES.keptDays),
      },
    ],
    onEveryInstance: [{ work: 'compare clocks', everyMs: COMPARE_MS, run: () => clock.compare() }],
    marks: [
      {
        name: 'requests',
        of: (environment) => ({
          sql: `SELECT COALESCE(ROUND(UNIX_TIMESTAMP(at) * 1000), 0) FROM ${environment.db.of(requestTable)} ORDER BY at DESC LIMIT 1`,
        }),
      },
    ],
    onEnvironmentCreated: (environment) => partitions(environment.db),
    prepare: () => clock.compare(),
    start: () => recorder.start(),
    stop: () => recorder.stop(),
  };
}
