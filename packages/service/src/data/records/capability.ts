import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { releaseUser } from './references.js';
import { managedRecordRoutes, recordRoutes } from './routes.js';

export function records(parts: Parts): Capability {
  return {
    name: 'records',
    routes: [...recordRoutes(parts), ...managedRecordRoutes(parts)],
    marks: [{ name: 'records', of: ({ database }) => ({ sql: `SELECT COALESCE(MAX(entry), 0) FROM \`${database}\`._feed` }) }],
    onUserRemoved: (removal) => releaseUser(parts, removal),
  };
}
