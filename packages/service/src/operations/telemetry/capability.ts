import type { Capability } from '../../platform/capability.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { Platform } from '../../platform/platform.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { keepPartitions } from './partitionDdl.js';
import { Recorder } from './recorder.js';
import { telemetryRoutes } from './routes.js';
import { requestTable } from './tables.js';

export function telemetry(platform: Platform): Capability<{ recorder: Recorder }> {
  const { servers, instance, now, metrics, changes, log, config, ports } = platform;
  const recorder = new Recorder(servers.installation, instance, now, metrics, changes, log);
  ports.recordCall = (...call) => recorder.record(...call);
  const partitions = (db: EnvironmentDatabase) => keepPartitions(db, now(), config.requestDays);
  return {
    name: 'telemetry',
    offer: { recorder },
    routes: telemetryRoutes(platform),
    recurring: [
      {
        work: 'partitions of requests',
        everyMs: HOUR_MS,
        eachEnvironment: (environment) => partitions(environment.db),
      },
      {
        work: 'partitions of installation requests',
        everyMs: HOUR_MS,
        run: () => partitions(servers.installation),
      },
    ],
    marks: [
      {
        name: 'requests',
        of: (environment) => ({
          sql: `SELECT COALESCE(ROUND(UNIX_TIMESTAMP(at) * 1000), 0) FROM ${environment.db.of(requestTable)} ORDER BY at DESC LIMIT 1`,
        }),
      },
    ],
    onEnvironmentCreated: (environment) => partitions(environment.db),
    start: () => recorder.start(),
    stop: () => recorder.stop(),
  };
}
