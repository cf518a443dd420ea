/** One-time codes that verify a phone number. */
import { Problem } from '@orchard/contract';
import { fillTemplate, parseTemplate } from '@orchard/core/messages';
import { CODE_LIFE_MS, CodeBook } from '../../platform/access/codeBook.js';
import type { Environment } from '../../platform/call.js';
import { singleMessage } from '../gateways/sender.js';
import type { Parts } from './parts.js';
import { codeTable } from './tables.js';

export class OneTimeCodes {
  readonly #book: CodeBook;

  constructor(private readonly parts: Parts) {
    this.#book = new CodeBook(parts, ({ db }) => ({ table: db.of(codeTable), key: 'number' }));
  }

  /**
   * Sends a code.
   * @throws {Problem} rate-exceeded, gateway-missing, or the gateway's refusal
   */
  async send(environment: Environment, number: string): Promise<{ number: string; expiresAt: string }> {
    const { parts } = this;
    const gateway = await parts.gateways.openFor(environment, 'sms');
    if (!gateway)
      throw new Problem(
        'gateway-missing',
        `${environment.app}/${environment.name} has no gateway for SMS. Add one with \`orchard gateway add\`.`,
      );
    const { code, expiresAt } = await this.#book.make(environment, { key: number, words: number });
    const settings = await parts.messageSettings.read(environment);
    const outcome = await gateway.sender.send(
      singleMessage(parts, {
        content: { body: fillTemplate(parseTemplate(settings.codeText), { code }) },
        target: { target: number, platform: 'sms', locale: 'en', timeZone: 'UTC' },
        ttlS: CODE_LIFE_MS / 1000,
      }),
    );
    if (outcome.kind !== 'accepted') throw new Problem('gateway-missing', `The code could not be sent. ${outcome.reason} Try again later.`);
    return { number, expiresAt: expiresAt.toISOString() };
  }

  /** @throws {Problem} code-refused */
  answer(environment: Environment, number: string, code: string): Promise<void> {
    return this.#book.take(environment, { key: number, words: number }, code);
  }
}
