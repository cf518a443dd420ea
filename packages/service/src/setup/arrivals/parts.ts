/** What this room stands on. */
import type { Contents } from '../../data/files/contents.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & { contents: Contents };
