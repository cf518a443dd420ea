/** What this room stands on. */
import type { MemberMail } from '../../setup/members/installationMail.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & { memberMail: MemberMail };
