import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { channelRoutes } from './routes.js';

export const channels = (parts: Parts): Capability => ({ name: 'channels', routes: channelRoutes(parts) });
