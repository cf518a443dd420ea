export { type Config, readConfig } from './config.js';
export { createLog } from './log.js';
export { type RunningService, startService } from './service.js';
