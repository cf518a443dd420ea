import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { forgetGuesses } from '../../platform/access/guesses.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { MailServer, MemberMail } from './installationMail.js';
import { memberRoutes } from './routes.js';

export function members(platform: Platform): Capability<{ memberMail: MemberMail }> {
  const memberMail = new MemberMail(platform.ports, mailServerOf(platform.config));
  return {
    name: 'members',
    offer: { memberMail },
    routes: memberRoutes({ ...platform, memberMail }),
    recurring: [{ work: 'forget guesses at members', everyMs: HOUR_MS, run: () => forgetGuesses(platform, 'guesses') }],
    stop: () => memberMail.close(),
  };
}

function mailServerOf({ smtpUrl, mailFrom, smtpTrust }: Platform['config']): MailServer | null {
  if (!smtpUrl) return null;
  return new MailServer({ url: smtpUrl, from: mailFrom ?? `orchard@${new URL(smtpUrl).hostname}`, trustFile: smtpTrust });
}
