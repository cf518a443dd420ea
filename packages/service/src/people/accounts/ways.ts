/** Ways in without a password: a code by mail or SMS, an address by mail, and guests. */
import { createHash } from 'node:crypto';
import { Problem } from '@orchard/contract';
import { fillTemplate, parseTemplate } from '@orchard/core/messages';
import { CODE_LIFE_MS, CodeBook, type CodeSubject } from '../../platform/access/codeBook.js';
import type { Environment } from '../../platform/call.js';
import { guarded } from '../../platform/upkeep.js';
import { singleMessage } from '../../messages/gateways/sender.js';
import { demandPhone } from '../../messages/gateways/numbers.js';
import { type Caller, demandGuests, entryRules } from '../users/entry.js';
import type { UserRow } from '../users/store.js';
import { namesOf } from './flows.js';
import { LINK_LIFE_MS, makeAddress, readToken, takeToken } from './linkStore.js';
import type { AccountMailer } from './mailer.js';
import type { Parts } from './parts.js';
import { signInCodeTable } from './tables.js';

const MINUTE_MS = 60_000;
export type Reached = { email: string; as?: 'code' | 'link' } | { phone: string };
type Asked = { code?: string; address?: string; expiresAt: string };

const subjectOf = (to: string): CodeSubject => ({ key: createHash('sha256').update(to).digest('base64url'), words: to });

export class WaysIn {
  readonly #codes: CodeBook;

  constructor(
    private readonly parts: Parts,
    private readonly mailer: AccountMailer,
  ) {
    this.#codes = new CodeBook(parts, ({ db }) => ({ table: db.of(signInCodeTable), key: 'who' }));
  }

  /** The response is the same without an account. @throws {Problem} access-refused, gateway-missing, rate-exceeded */
  async ask(environment: Environment, reached: Reached, locale: string): Promise<Asked> {
    const rules = await entryRules.read(environment);
    if ('phone' in reached) {
      this.#demand(environment, rules.codeBySms, 'a code by SMS');
      return this.#codeBySms(environment, demandPhone(reached.phone, 'body.phone').number);
    }
    if (reached.as === 'link') {
      this.#demand(environment, rules.linkByMail, 'an address by mail');
      return this.#linkByMail(environment, reached.email, locale);
    }
    this.#demand(environment, rules.codeByMail, 'a code by mail');
    return this.#codeByMail(environment, reached.email, locale);
  }

  #demand({ app, name }: Environment, isAllowed: boolean, what: string): void {
    if (!isAllowed)
      throw new Problem('access-refused', `${app}/${name} does not let people in by ${what}. \`orchard sign-up set\` allows it.`);
  }

  async #codeByMail(environment: Environment, email: string, locale: string): Promise<Asked> {
    const way = await this.mailer.demandWay(environment);
    const { code, expiresAt } = await this.#codes.make(environment, subjectOf(email));
    const user = await this.#userOf(environment, { email });
    const values = { code, minutes: String(CODE_LIFE_MS / MINUTE_MS) };
    if (user) this.mailer.send(environment, { mail: 'sign-in-code', to: email, locale, values: { ...namesOf(user), ...values } });
    return { expiresAt: expiresAt.toISOString(), ...(way === 'outbox' && user ? { code } : {}) };
  }

  async #linkByMail(environment: Environment, email: string, locale: string): Promise<Asked> {
    const way = await this.mailer.demandWay(environment);
    const user = await this.#userOf(environment, { email });
    const address = user && (await makeAddress(this.parts, environment, 'sign-in-link', user.id));
    const life = LINK_LIFE_MS['sign-in-link'];
    const minutes = String(life / MINUTE_MS);
    if (address)
      this.mailer.send(environment, { mail: 'sign-in-link', to: email, locale, values: { ...namesOf(user), link: address, minutes } });
    return { expiresAt: new Date(this.parts.now() + life).toISOString(), ...(way === 'outbox' && address ? { address } : {}) };
  }

  async #codeBySms(environment: Environment, number: string): Promise<Asked> {
    const { parts } = this;
    const gateway = await parts.gateways.openFor(environment, 'sms');
    if (!gateway)
      throw new Problem(
        'gateway-missing',
        `${environment.app}/${environment.name} has no gateway for SMS. Add one with \`orchard gateway add\`.`,
      );
    const { code, expiresAt } = await this.#codes.make(environment, subjectOf(number));
    const user = await this.#userOf(environment, { phone: number });
    const { codeText } = await parts.messageSettings.read(environment);
    if (user)
      void guarded(parts, 'send a code to sign in', { environment: environment.id }, async () => {
        const outcome = await gateway.sender.send(
          singleMessage(parts, {
            content: { body: fillTemplate(parseTemplate(codeText), { code }) },
            target: { target: number, platform: 'sms', locale: 'en', timeZone: 'UTC' },
            ttlS: CODE_LIFE_MS / 1000,
          }),
        );
        if (outcome.kind !== 'accepted') throw new Error(outcome.reason);
      });
    return { expiresAt: expiresAt.toISOString() };
  }

  /** Of a number only a verified one counts: anybody can claim another's. */
  async #userOf(environment: Environment, of: { email: string } | { phone: string }): Promise<UserRow | null> {
    const { userStore } = this.parts;
    const user =
      'email' in of ? await userStore.findByEmail(environment, of.email) : await userStore.findByVerifiedPhone(environment, of.phone);
    return user && !user.disabled ? user : null;
  }

  /** @throws {Problem} code-refused, app-outdated */
  async byCode(environment: Environment, caller: Caller, reached: { email: string; code: string } | { phone: string; code: string }) {
    return this.parts.userSessions.begin(environment, caller, await this.userByCode(environment, reached));
  }

  /** Whoever has been sent a code. @throws {Problem} code-refused */
  async userByCode(environment: Environment, reached: { email: string; code: string } | { phone: string; code: string }): Promise<UserRow> {
    const of = 'phone' in reached ? { phone: demandPhone(reached.phone, 'body.phone').number } : { email: reached.email };
    const to = of.phone ?? of.email ?? '';
    await this.#codes.take(environment, subjectOf(to), reached.code.replace(/\D/g, ''));
    const user = await this.#userOf(environment, of);
    // The code of an address without an account was sent to nobody.
    if (!user) throw new Problem('code-refused', `There is no valid code for ${to}. Ask for a new one.`);
    return 'email' in of ? this.#confirmed(environment, user) : user;
  }

  /** @throws {Problem} link-refused, app-outdated */
  async byLink(environment: Environment, caller: Caller, given: string) {
    const { environment: named, token } = await readToken(this.parts, given);
    if (named.id !== environment.id) throw new Problem('link-refused');
    const user = await takeToken(this.parts, environment, ['sign-in-link'], token, async (userId) => {
      const found = await this.parts.userStore.find(environment, userId);
      if (!found || found.disabled) throw new Problem('link-refused');
      return found;
    });
    return this.parts.userSessions.begin(environment, caller, await this.#confirmed(environment, user));
  }

  /** Who answered from the address reads it. */
  async #confirmed(environment: Environment, user: UserRow): Promise<UserRow> {
    if (user.emailConfirmedAt) return user;
    const now = new Date(this.parts.now());
    const changes = { emailConfirmedAt: now, updatedAt: now };
    await this.parts.userStore.update(environment, user.id, changes);
    return { ...user, ...changes };
  }

  /** @throws {Problem} access-refused, app-outdated */
  async asGuest(environment: Environment, caller: Caller) {
    await demandGuests(environment);
    const user = await this.parts.userSessions.makeUser(environment, { email: null });
    return this.parts.userSessions.begin(environment, caller, user);
  }
}
