import type { Capability } from '../../platform/capability.js';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { keepPartitions } from '../../platform/database/partitionDdl.js';
import type { Platform } from '../../platform/platform.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { Levels } from './levels.js';
import { logRoutes } from './routes.js';
import { SourceMaps } from './sourceMaps.js';
import { ServiceLog } from './serviceLog.js';
import { logTable } from './tables.js';

export function logs(platform: Platform): Capability<{ levels: Levels }> {
  const { now, ports } = platform;
  const offer = { levels: new Levels(platform) };
  const parts = { ...platform, ...offer, sourceMaps: new SourceMaps() };
  const serviceLog = new ServiceLog(parts);
  ports.logEntry = (environment, entry) => serviceLog.add(environment, entry);
  const partitions = (db: EnvironmentDatabase, days: number) => keepPartitions(db, logTable, now(), days);
  return {
    name: 'logs',
    offer,
    routes: logRoutes(parts),
    recurring: [
      {
        work: 'partitions of the log',
        everyMs: HOUR_MS,
        eachEnvironment: async (environment) => partitions(environment.db, (await offer.levels.read(environment)).days),
      },
    ],
    marks: [
      {
        name: 'log',
        of: ({ db }) => ({ sql: `SELECT COALESCE(ROUND(UNIX_TIMESTAMP(at) * 1000), 0) FROM ${db.of(logTable)} ORDER BY at DESC LIMIT 1` }),
      },
    ],
    onEnvironmentCreated: (environment) => partitions(environment.db, 14),
    start: () => serviceLog.start(),
    stop: () => serviceLog.stop(),
  };
}
