import type { Capability } from '../../platform/capability.js';
import { HOUR_MS } from '../../platform/upkeep.js';
import { AccountFlows, namesOf } from './flows.js';
import { removeLinks } from './linkStore.js';
import { AccountMailer } from './mailer.js';
import { forgetOutbox } from './outbox.js';
import type { Parts } from './parts.js';
import { accountRoutes } from './routes.js';
import { entryRules } from '../users/entry.js';
import { WaysIn } from './ways.js';

export type AccountsOffer = { accountMailer: AccountMailer; accountFlows: AccountFlows; waysIn: WaysIn };

export function accounts(parts: Parts): Capability<AccountsOffer> {
  const mailer = new AccountMailer(parts);
  const flows = new AccountFlows(parts, mailer);
  const ways = new WaysIn(parts, mailer);
  const { now } = parts;
  parts.ports.accounts = {
    confirm: async (environment, user, locale) => void (await flows.askConfirmation(environment, user, locale)),
    taken: (environment, user, locale) => {
      if (user.email) mailer.send(environment, { mail: 'address-taken', to: user.email, locale, values: namesOf(user) });
    },
    signedIn: (environment, user, { client, locale }) => {
      void entryRules.read(environment).then(({ tellNewSignIn }) => {
        if (!tellNewSignIn || !user.email) return;
        const at = `${new Date(now()).toLocaleString('en-GB', { dateStyle: 'long', timeStyle: 'short', timeZone: 'UTC' })} UTC`;
        mailer.send(environment, { mail: 'new-sign-in', to: user.email, locale, values: { ...namesOf(user), client, at } });
      });
    },
    deleted: (environment, user, locale) => {
      void entryRules.read(environment).then(({ tellDeleted }) => {
        if (tellDeleted && user.email) mailer.send(environment, { mail: 'account-deleted', to: user.email, locale, values: namesOf(user) });
      });
    },
  };
  return {
    name: 'accounts',
    offer: { accountMailer: mailer, accountFlows: flows, waysIn: ways },
    routes: accountRoutes({ parts, mailer, flows, ways }),
    onUserRemoved: ({ on, environment, userId }) => removeLinks(on, environment, userId),
    recurring: [
      { work: 'forget mails that were shown', everyMs: HOUR_MS, eachEnvironment: (environment) => forgetOutbox(environment, now()) },
    ],
  };
}
