export { type Config, readConfig } from './platform/config.js';
export { createLog } from './platform/log.js';
export { type RunningService, startService } from './service.js';
