import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { dateNoteRoutes } from './routes.js';

export const dateNotes = (platform: Platform): Capability => ({ name: 'date notes', routes: dateNoteRoutes(platform) });
