/** What this room stands on. */
import type { Notices } from '../../setup/notices/noticeStore.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & { notices: Notices };
