import type { Capability } from '../../platform/capability.js';
import type { Parts, Stands } from './parts.js';
import { emptyRecordPorts } from './ports.js';
import { releaseUser } from './referenceStore.js';
import { ownedRecords } from './ownedStore.js';
import { managedRecordRoutes, recordRoutes } from './routes.js';
import { feedTable } from '../../platform/live/tables.js';

export function records(stands: Stands): Capability<Omit<Parts, keyof Stands>> {
  const offer = { recordPorts: emptyRecordPorts() };
  const parts = { ...stands, ...offer };
  return {
    name: 'records',
    offer,
    routes: [...recordRoutes(parts), ...managedRecordRoutes(parts)],
    marks: [{ name: 'records', of: ({ db }) => ({ sql: `SELECT COALESCE(MAX(entry), 0) FROM ${db.of(feedTable)}` }) }],
    dataOfUser: async (environment, userId) => ({ records: await ownedRecords(parts, environment, userId) }),
    onUserRemoved: (removal) => releaseUser(parts, removal),
  };
}
