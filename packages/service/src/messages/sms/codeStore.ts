/**
 * One-time codes that verify a phone number: six digits, valid for ten minutes and five attempts; few to a number in an
 * hour.
 */
import { createHmac, timingSafeEqual } from 'node:crypto';
import { Problem } from '@orchard/contract';
import { fillTemplate, parseTemplate } from '@orchard/core/messages';
import { deriveKey } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { codeTable } from './tables.js';

const LIFE_MS = 10 * 60_000;
const HOUR_MS = 3_600_000;
const AGAIN_AFTER_MS = 30_000;
const MOST_TRIES = 5;
const MOST_AN_HOUR = 5;
type CodeRow = { hash: string; tries: number; sent: number; firstAt: Date; sentAt: Date; expiresAt: Date };

export class OneTimeCodes {
  constructor(private readonly parts: Parts) {}

  /**
   * Sends a code.
   * @throws {Problem} rate-exceeded, gateway-missing, or the gateway's refusal
   */
  async send(environment: Environment, number: string): Promise<{ number: string; expiresAt: string }> {
    const { parts } = this;
    const now = parts.now();
    const gateway = await parts.gateways.openFor(environment, 'sms');
    if (!gateway)
      throw new Problem(
        'gateway-missing',
        `${environment.app}/${environment.name} has no gateway for SMS. Add one with \`orchard gateway add\`.`,
      );
    const code = String(parts.random(4).readUInt32BE() % 1_000_000).padStart(6, '0');
    const expiresAt = new Date(now + LIFE_MS);
    await this.#note(environment, number, code, now, expiresAt);
    const settings = await parts.messageSettings.read(environment);
    const outcome = await gateway.sender.send({
      notification: {
        id: parts.newId(),
        sentAt: new Date(now).toISOString(),
        urgency: 'high',
        replaces: null,
        expiresAt: expiresAt.getTime(),
      },
      content: { body: fillTemplate(parseTemplate(settings.codeText), { code }) },
      overlay: undefined,
      target: {
        target: number,
        endpoint: null,
        p256dh: null,
        auth: null,
        pushKey: null,
        token: null,
        platform: 'sms',
        locale: 'en',
        timeZone: 'UTC',
        badge: 0,
      },
      ttlS: LIFE_MS / 1000,
      attempt: 1,
    });
    if (outcome.kind !== 'accepted') throw new Problem('gateway-missing', `The code could not be sent. ${outcome.reason} Try again later.`);
    return { number, expiresAt: expiresAt.toISOString() };
  }

  /** Stores the code, unless too many were sent to the number, which would annoy strangers and cost money. */
  #note(environment: Environment, number: string, code: string, now: number, expiresAt: Date): Promise<void> {
    return environment.db.transaction(async (on) => {
      const [row] = await on.rows<CodeRow>(`SELECT * FROM ${environment.db.of(codeTable)} WHERE number = ? FOR UPDATE`, [number]);
      const fresh = row && row.firstAt.getTime() > now - HOUR_MS;
      const wait =
        row && row.sentAt.getTime() + AGAIN_AFTER_MS > now
          ? row.sentAt.getTime() + AGAIN_AFTER_MS - now
          : fresh && row.sent >= MOST_AN_HOUR
            ? row.firstAt.getTime() + HOUR_MS - now
            : 0;
      if (wait > 0) {
        const retryAfterS = Math.ceil(wait / 1000);
        throw new Problem('rate-exceeded', `A code was sent to ${number} a moment ago. Ask for another in ${retryAfterS} s.`, {
          retryAfterS,
        });
      }
      await on.change(
        `REPLACE INTO ${environment.db.of(codeTable)} (number, hash, tries, sent, firstAt, sentAt, expiresAt) VALUES (?, ?, 0, ?, ?, ?, ?)`,
        [
          number,
          this.#hash(environment, number, code),
          fresh ? row.sent + 1 : 1,
          fresh ? row.firstAt : new Date(now),
          new Date(now),
          expiresAt,
        ],
      );
    });
  }

  #hash(environment: Environment, number: string, code: string): string {
    return createHmac('sha256', deriveKey(environment.keys.data, 'codes')).update(`${environment.id}:${number}:${code}`).digest('hex');
  }

  /**
   * Checks a code, which is valid once.
   * @throws {Problem} code-refused
   */
  async answer(environment: Environment, number: string, code: string): Promise<void> {
    const refusal = await environment.db.transaction(async (on) => {
      const [row] = await on.rows<CodeRow>(`SELECT * FROM ${environment.db.of(codeTable)} WHERE number = ? FOR UPDATE`, [number]);
      if (!row || row.hash === '' || row.expiresAt.getTime() <= this.parts.now())
        return `There is no valid code for ${number}. Ask for a new one.`;
      if (row.tries >= MOST_TRIES) return `The code was entered wrongly ${MOST_TRIES} times. Ask for a new one.`;
      const given = Buffer.from(this.#hash(environment, number, code));
      if (timingSafeEqual(given, Buffer.from(row.hash))) {
        await on.change(`UPDATE ${environment.db.of(codeTable)} SET hash = '' WHERE number = ?`, [number]);
        return null;
      }
      await on.change(`UPDATE ${environment.db.of(codeTable)} SET tries = tries + 1 WHERE number = ?`, [number]);
      return `This is not the code sent to ${number}; ${MOST_TRIES - 1 - row.tries} tries are left.`;
    });
    if (refusal) throw new Problem('code-refused', refusal);
  }
}
