import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { importRoutes } from './routes.js';

export const imports = (parts: Parts): Capability => ({ name: 'imports', routes: importRoutes(parts) });
