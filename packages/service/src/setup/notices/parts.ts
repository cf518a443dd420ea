/** What this room stands on. */
import type { Notices } from './notices.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & { notices: Notices };
