/** Writes recorded calls of the past, for the demo's ninety days. */
export { forgetCells, insertCounts, insertRequests, REQUEST_COLUMNS } from './operations/telemetry/recordStore.js';
export { exchangeRow } from './operations/telemetry/exchangeRow.js';
export { NO_BODIES } from './operations/telemetry/recording.js';
export { addHappening, addIncident } from './operations/alerts/incidentStore.js';
export { addChange } from './operations/objectives/store.js';
export type { EnvironmentDatabase as PastDatabase } from './platform/database/environmentDatabase.js';
export { rollUp } from './operations/telemetry/rollUps.js';
export { insertSizes } from './data/collections/sizeStore.js';
export { openDatabase } from './platform/database/connection.js';
export { Servers } from './platform/database/servers.js';
export { Leases } from './platform/database/leases.js';
export { type PastEvent, type PastPerson, writePastEvents } from './insight/events/pastStore.js';
