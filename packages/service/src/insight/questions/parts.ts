/** What this room stands on. */
import type { Platform } from '../../platform/platform.js';
import type { EventParts } from '../events/capability.js';

export type Parts = Platform & EventParts;
