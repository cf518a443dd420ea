/** What this room stands on. */
import type { MemberMail } from './installationMail.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & { memberMail: MemberMail };
