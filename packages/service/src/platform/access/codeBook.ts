/**
 * One-time codes that prove that somebody reads what is sent to a number or address: six digits, valid for ten minutes and five
 * attempts; few to the same one in an hour, which would annoy strangers and cost money. Raw SQL: the row is locked meanwhile.
 */
import { createHmac, timingSafeEqual } from 'node:crypto';
import { Problem } from '@orchard/contract';
import type { Environment } from '../call.js';
import { deriveKey } from './secrets.js';

export const CODE_LIFE_MS = 10 * 60_000;
const HOUR_MS = 3_600_000;
const AGAIN_AFTER_MS = 30_000;
const MOST_TRIES = 5;
const MOST_AN_HOUR = 5;
type CodeRow = { hash: string; tries: number; sent: number; firstAt: Date; sentAt: Date; expiresAt: Date };
type Ground = { now: () => number; random: (bytes: number) => Buffer };
/** Whose code it is: by what the table is keyed, and how messages call it. */
export type CodeSubject = { key: string; words: string };

export class CodeBook {
  /** @param tableOf the table of codes in an environment, and its key */
  constructor(
    private readonly ground: Ground,
    private readonly tableOf: (environment: Environment) => { table: string; key: string },
  ) {}

  /** Makes a code. @throws {Problem} rate-exceeded */
  async make(environment: Environment, subject: CodeSubject): Promise<{ code: string; expiresAt: Date }> {
    const { now, random } = this.ground;
    const code = String(random(4).readUInt32BE() % 1_000_000).padStart(6, '0');
    const expiresAt = new Date(now() + CODE_LIFE_MS);
    await this.#note(environment, subject, code, now(), expiresAt);
    return { code, expiresAt };
  }

  #note(environment: Environment, { key, words }: CodeSubject, code: string, now: number, expiresAt: Date): Promise<void> {
    const { table, key: column } = this.tableOf(environment);
    return environment.db.transaction(async (on) => {
      const [row] = await on.rows<CodeRow>(`SELECT * FROM ${table} WHERE ${column} = ? FOR UPDATE`, [key]);
      const fresh = row && row.firstAt.getTime() > now - HOUR_MS;
      const wait =
        row && row.sentAt.getTime() + AGAIN_AFTER_MS > now
          ? row.sentAt.getTime() + AGAIN_AFTER_MS - now
          : fresh && row.sent >= MOST_AN_HOUR
            ? row.firstAt.getTime() + HOUR_MS - now
            : 0;
      if (wait > 0) {
        const retryAfterS = Math.ceil(wait / 1000);
        throw new Problem('rate-exceeded', `A code was sent to ${words} a moment ago. Ask for another in ${retryAfterS} s.`, {
          retryAfterS,
        });
      }
      await on.change(`REPLACE INTO ${table} (${column}, hash, tries, sent, firstAt, sentAt, expiresAt) VALUES (?, ?, 0, ?, ?, ?, ?)`, [
        key,
        this.#hash(environment, key, code),
        fresh ? row.sent + 1 : 1,
        fresh ? row.firstAt : new Date(now),
        new Date(now),
        expiresAt,
      ]);
    });
  }

  #hash(environment: Environment, key: string, code: string): string {
    return createHmac('sha256', deriveKey(environment.keys.data, 'codes')).update(`${environment.id}:${key}:${code}`).digest('hex');
  }

  /**
   * Checks a code, which is valid once.
   * @throws {Problem} code-refused
   */
  async take(environment: Environment, { key, words }: CodeSubject, code: string): Promise<void> {
    const { table, key: column } = this.tableOf(environment);
    const refusal = await environment.db.transaction(async (on) => {
      const [row] = await on.rows<CodeRow>(`SELECT * FROM ${table} WHERE ${column} = ? FOR UPDATE`, [key]);
      if (!row || row.hash === '' || row.expiresAt.getTime() <= this.ground.now())
        return `There is no valid code for ${words}. Ask for a new one.`;
      if (row.tries >= MOST_TRIES) return `The code was entered wrongly ${MOST_TRIES} times. Ask for a new one.`;
      const given = Buffer.from(this.#hash(environment, key, code));
      if (timingSafeEqual(given, Buffer.from(row.hash))) {
        await on.change(`UPDATE ${table} SET hash = '' WHERE ${column} = ?`, [key]);
        return null;
      }
      await on.change(`UPDATE ${table} SET tries = tries + 1 WHERE ${column} = ?`, [key]);
      return `This is not the code sent to ${words}; ${MOST_TRIES - 1 - row.tries} tries are left.`;
    });
    if (refusal) throw new Problem('code-refused', refusal);
  }
}
