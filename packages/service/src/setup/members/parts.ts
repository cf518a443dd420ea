/** What this room stands on. */
import type { InstallationMail } from './installationMail.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & {
  /** Null where no server is set. */ installationMail: InstallationMail | null;
};
