import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { optOutRoutes } from './routes.js';

export const optOuts = (platform: Platform): Capability => ({ name: 'opt-outs', routes: optOutRoutes(platform) });
