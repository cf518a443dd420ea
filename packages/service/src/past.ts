/** Writes recorded calls of the past, for the demo's ninety days. */
export { insertMinutes, insertRequests, type MinuteCount, REQUEST_COLUMNS } from './operations/telemetry/recordStore.js';
export { insertSizes } from './data/collections/sizeStore.js';
export { openDatabase } from './platform/database/connection.js';
export { Servers } from './platform/database/servers.js';
export { Leases } from './platform/database/leases.js';
