/** What this room stands on. */
import type { MessageSettings } from './messageSettings.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & { messageSettings: MessageSettings };
