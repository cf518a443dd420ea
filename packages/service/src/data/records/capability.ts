import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { releaseUser } from './referenceStore.js';
import { ownedRecords } from './ownedStore.js';
import { managedRecordRoutes, recordRoutes } from './routes.js';
import { feedTable } from '../../platform/live/tables.js';

export function records(parts: Parts): Capability {
  return {
    name: 'records',
    routes: [...recordRoutes(parts), ...managedRecordRoutes(parts)],
    marks: [{ name: 'records', of: ({ db }) => ({ sql: `SELECT COALESCE(MAX(entry), 0) FROM ${db.of(feedTable)}` }) }],
    dataOfUser: async (environment, userId) => ({ records: await ownedRecords(parts, environment, userId) }),
    onUserRemoved: (removal) => releaseUser(parts, removal),
  };
}
