/** What is done by mail: confirming an address, a new password, another address, an invitation. */
import { Problem } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { presentUser, type UserRow } from '../users/store.js';
import { type LinkKind, LINK_LIFE_MS, makeAddress, readToken, takeToken } from './linkStore.js';
import type { AccountMailer } from './mailer.js';
import type { Parts } from './parts.js';

const HOUR_MS = 3_600_000;
type Named = { id: string; email: string | null; name: string | null };
type Shown = { address?: string };

export const namesOf = ({ name, email }: { name: string | null; email: string | null }): Record<string, string> => ({
  ...(name ? { name } : {}),
  ...(email ? { email } : {}),
});

export class AccountFlows {
  constructor(
    private readonly parts: Parts,
    private readonly mailer: AccountMailer,
  ) {}

  /** Mails a one-time address. In `dev` without a gateway it is returned, too. */
  async #mailLink(
    environment: Environment,
    kind: LinkKind,
    user: Named,
    to: string,
    locale: string,
    detail: string | null = null,
  ): Promise<Shown> {
    const address = await makeAddress(this.parts, environment, kind, user.id, detail);
    if (!address) return {};
    const hours = String(Math.round(LINK_LIFE_MS[kind] / HOUR_MS));
    this.mailer.send(environment, { mail: kind, to, locale, values: { ...namesOf({ ...user, email: to }), link: address, hours } });
    return (await this.mailer.way(environment)) === 'outbox' ? { address } : {};
  }

  /** Asks the owner of a new address to confirm it, where mails can be sent. */
  async askConfirmation(environment: Environment, user: Named, locale: string): Promise<Shown> {
    if (user.email === null || !(await this.mailer.way(environment))) return {};
    return this.#mailLink(environment, 'confirm-address', user, user.email, locale);
  }

  /** @throws {Problem} link-refused, already-exists */
  async confirm(given: string): Promise<{ environment: Environment; email: string }> {
    const { environment, token } = await readToken(this.parts, given);
    const { userStore } = this.parts;
    const email = await takeToken(this.parts, environment, ['confirm-address', 'change-address'], token, async (userId, detail, kind) => {
      const user = await userStore.find(environment, userId);
      if (!user?.email) throw new Problem('link-refused');
      const now = new Date(this.parts.now());
      if (kind === 'confirm-address') {
        await userStore.update(environment, userId, { emailConfirmedAt: now, updatedAt: now });
        return user.email;
      }
      await this.#move(environment, user, detail as string, now);
      return detail as string;
    });
    return { environment, email };
  }

  async #move(environment: Environment, user: UserRow, email: string, now: Date): Promise<void> {
    const { userStore } = this.parts;
    const other = await userStore.findByEmail(environment, email);
    if (other && other.id !== user.id) throw new Problem('already-exists', `There is an account for ${email} already.`);
    await userStore.update(environment, user.id, { email, emailConfirmedAt: now, updatedAt: now });
    const values = { ...namesOf(user), newEmail: email };
    if (user.email) this.mailer.send(environment, { mail: 'address-changed', to: user.email, locale: 'en', values });
  }

  /** The response is the same without an account. @throws {Problem} gateway-missing */
  async forgotPassword(environment: Environment, email: string, locale: string): Promise<Shown> {
    await this.mailer.demandWay(environment);
    const user = await this.parts.userStore.findByEmail(environment, email);
    return user && !user.disabled ? this.#mailLink(environment, 'new-password', user, email, locale) : {};
  }

  /** Sets the password by the token of a reset or an invitation. @throws {Problem} link-refused, invalid-input */
  async newPassword(given: string, password: string): Promise<Environment> {
    const { environment, token } = await readToken(this.parts, given);
    const { userStore, userSessions } = this.parts;
    const user = await takeToken(this.parts, environment, ['new-password', 'invitation'], token, async (userId) => {
      const found = await userStore.find(environment, userId);
      if (!found) throw new Problem('link-refused');
      await userSessions.demandGood(environment, found, password);
      return found;
    });
    await userSessions.setPassword(environment, user, password, 'body.password', null);
    // Who opened the mail reads the address.
    if (!user.emailConfirmedAt) await userStore.update(environment, user.id, { emailConfirmedAt: new Date(this.parts.now()) });
    return environment;
  }

  /** @throws {Problem} gateway-missing */
  async changeEmail(environment: Environment, user: UserRow, email: string, locale: string): Promise<Shown> {
    await this.mailer.demandWay(environment);
    return this.#mailLink(environment, 'change-address', user, email, locale, email);
  }

  /** @throws {Problem} gateway-missing, already-exists */
  async invite(
    environment: Environment,
    wanted: { email: string; name?: string | undefined; roles?: string[] | undefined; locale: string },
  ) {
    await this.mailer.demandWay(environment);
    const user = await this.parts.userSessions.makeUser(environment, wanted);
    const shown = await this.#mailLink(environment, 'invitation', user, wanted.email, wanted.locale);
    return { ...presentUser(user), ...shown };
  }
}
