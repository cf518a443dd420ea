import type { JsonObject } from '@orchard/core';
import type { Capability } from '../../platform/capability.js';
import { latestSql } from '../../platform/live/marks.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import type { Parts } from './parts.js';
import { deviceRoutes } from './routes.js';
import { DeviceStore } from './store.js';
import { tendDevices } from './tending.js';
import { deviceTable } from './tables.js';

export function devices(parts: Parts): Capability<{ devices: DeviceStore }> {
  const store = new DeviceStore(parts);
  parts.ports.signedOut = (environment, id, userId) => store.signOut(environment, id, userId);
  parts.ports.countriesOf = (environment, ids) => store.countriesOf(environment, ids);
  return {
    name: 'devices',
    offer: { devices: store },
    routes: deviceRoutes(parts),
    recurring: [{ work: 'tend devices', everyMs: HOUR_MS, eachEnvironment: (environment) => tendDevices(parts, environment) }],
    marks: [{ name: 'devices', of: ({ db }) => ({ sql: latestSql(`${db.of(deviceTable)}`, 'updatedAt') }) }],
    dataOfUser: async (environment, userId) => ({ devices: (await store.ofUser(environment, userId)) as unknown as JsonObject[] }),
    onUserRemoved: ({ on, environment, userId }) => store.releaseUser(on, environment, userId),
  };
}
