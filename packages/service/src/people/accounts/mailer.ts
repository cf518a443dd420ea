/** Sends the mails about accounts, in the words of the team, through the environment's gateway. */
import { Problem } from '@orchard/contract';
import { type AccountMail, fillMail, type MailText, mailText, type OwnTexts } from '@orchard/core/accounts';
import { singleMessage } from '../../messages/gateways/sender.js';
import { type Environment, explainsRefusals } from '../../platform/call.js';
import { Settings } from '../../platform/settings/settingStore.js';
import { guarded } from '../../platform/upkeep.js';
import { addToOutbox } from './outbox.js';
import type { Parts } from './parts.js';

/** Texts of the team's own. */
export const ownTexts = new Settings<OwnTexts>('account mails', () => ({}));

const TTL_S = 3_600;
export type Mail = { mail: AccountMail; to: string; locale: string; values: Record<string, string> };

export class AccountMailer {
  constructor(private readonly parts: Parts) {}

  /** How mails go from here: through a gateway, shown in the console, or not at all. */
  async way(environment: Environment): Promise<'gateway' | 'outbox' | null> {
    if (await this.parts.gateways.openFor(environment, 'mail')) return 'gateway';
    return explainsRefusals(environment) ? 'outbox' : null;
  }

  /** @throws {Problem} gateway-missing */
  async demandWay(environment: Environment): Promise<'gateway' | 'outbox'> {
    const way = await this.way(environment);
    if (!way) throw new Problem('gateway-missing', await this.missing(environment));
    return way;
  }

  async missing({ app, name }: Environment): Promise<string> {
    return `${app}/${name} has no gateway for mail, so mails about accounts cannot be sent. Add one with \`orchard gateway add\`.`;
  }

  async textOf(environment: Environment, { mail, locale, values }: Omit<Mail, 'to'>): Promise<MailText> {
    const text = mailText(mail, locale, await ownTexts.read(environment));
    return fillMail(text, { app: environment.app, ...values });
  }

  /**
   * Sends in the background: how long it takes would tell whether there is an account. Without a gateway it is shown in `dev`,
   * and elsewhere not sent.
   */
  send(environment: Environment, mail: Mail): void {
    void guarded(this.parts, 'mail about an account', { environment: environment.id }, () => this.sendNow(environment, mail));
  }

  /** @throws {Error} when the gateway does not accept it */
  async sendNow(environment: Environment, mail: Mail): Promise<void> {
    const { subject, text } = await this.textOf(environment, mail);
    const { parts } = this;
    const id = parts.newId();
    const gateway = await parts.gateways.openFor(environment, 'mail');
    if (!gateway) {
      const { mail: kind, to, locale } = mail;
      if (explainsRefusals(environment))
        await addToOutbox(environment, { id, at: new Date(parts.now()), mail: kind, to, locale, subject, text });
      return;
    }
    const outcome = await gateway.sender.send(
      singleMessage(parts, {
        id,
        content: { title: subject, body: text },
        target: { target: mail.to, platform: 'mail', locale: mail.locale, timeZone: 'UTC' },
        ttlS: TTL_S,
      }),
    );
    if (outcome.kind !== 'accepted') throw new Error(`The mail server did not accept it: ${outcome.reason}`);
  }
}
