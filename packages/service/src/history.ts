/** Writes recorded calls of the past, for the demo's ninety days. */
export { insertMinutes, insertRequests, type MinuteCount, REQUEST_COLUMNS } from './telemetry/recorder.js';
export { insertSizes } from './collections/sizes.js';
export { openDatabase } from './database/connection.js';
