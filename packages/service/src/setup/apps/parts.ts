/** What this room stands on. */
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform;
