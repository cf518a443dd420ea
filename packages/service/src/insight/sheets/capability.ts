import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { sheetRoutes } from './routes.js';

export const sheets = (platform: Platform): Capability => ({ name: 'sheets', routes: sheetRoutes(platform) });
