/** What this room stands on. */
import type { Parts as DeviceParts } from '../devices/parts.js';

export type Parts = DeviceParts;
