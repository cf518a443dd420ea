import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { forgetGuesses } from '../../platform/access/guesses.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { InstallationMail } from './installationMail.js';
import { memberRoutes } from './routes.js';

export function members(platform: Platform): Capability {
  const installationMail = installationMailOf(platform.config);
  return {
    name: 'members',
    routes: memberRoutes({ ...platform, installationMail }),
    recurring: [{ work: 'forget guesses at members', everyMs: HOUR_MS, run: () => forgetGuesses(platform, 'guesses') }],
    stop: () => installationMail?.close(),
  };
}

function installationMailOf({ smtpUrl, mailFrom, smtpTrust }: Platform['config']): InstallationMail | null {
  if (!smtpUrl) return null;
  return new InstallationMail({ url: smtpUrl, from: mailFrom ?? `orchard@${new URL(smtpUrl).hostname}`, trustFile: smtpTrust });
}
