import type { Capability } from '../../platform/capability.js';
import { environmentDatabase, INSTALLATION } from '../../platform/database/migrate.js';
import type { Platform } from '../../platform/platform.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { keepPartitions } from './partitions.js';
import { Recorder } from './recorder.js';
import { telemetryRoutes } from './routes.js';

export function telemetry(platform: Platform): Capability<{ recorder: Recorder }> {
  const { database, instance, now, metrics, changes, log, config, ports } = platform;
  const recorder = new Recorder(database, instance, now, metrics, changes, log);
  ports.recordCall = (...call) => recorder.record(...call);
  const partitions = (name: string) => keepPartitions(database, name, now(), config.requestDays);
  return {
    name: 'telemetry',
    offer: { recorder },
    routes: telemetryRoutes(platform),
    periodic: [
      {
        work: 'partitions of requests',
        everyMs: HOUR_MS,
        atStart: true,
        eachEnvironment: (environment) => partitions(environment.database),
      },
      {
        work: 'partitions of requests',
        everyMs: HOUR_MS,
        atStart: true,
        run: () => partitions(environmentDatabase(database, INSTALLATION)),
      },
    ],
    marks: [
      {
        name: 'requests',
        of: (environment) => ({
          sql: `SELECT COALESCE(ROUND(UNIX_TIMESTAMP(at) * 1000), 0) FROM \`${environment.database}\`._requests ORDER BY at DESC LIMIT 1`,
        }),
      },
    ],
    onEnvironmentCreated: (environment) => partitions(environment.database),
    start: () => recorder.start(),
    stop: () => recorder.stop(),
  };
}
