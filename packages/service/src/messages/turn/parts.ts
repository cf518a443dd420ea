/** What this room stands on. */
export type { Platform as Parts } from '../../platform/platform.js';
