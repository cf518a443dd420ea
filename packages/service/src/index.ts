export { type Config, readConfig } from './config.js';
export { createLog, type RunningService, startService } from './service.js';
