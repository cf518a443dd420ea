/**
 * Slows password guessing without slowing the owner: failures count for the account at one address, for the account from
 * addresses it was never used from, and for the address over all accounts.
 */
import { createHash } from 'node:crypto';
import { Problem } from '@orchard/contract';
import type { Statements } from '../database/connection.js';

const MINUTE_MS = 60_000;
/** Failures are forgotten after this long without another one. */
const FORGET_MS = 60 * MINUTE_MS;
/** How long an address that an account signed in from counts as its own. */
const FAMILIAR_MS = 30 * 24 * 60 * MINUTE_MS;
/** An address that was noted so lately, without a failure since, is not noted again. */
const NOTED_MS = 60 * MINUTE_MS;
/** The longest wait for signing in to an attacked account from a new address. */
const LONGEST_ACCOUNT_WAIT_MS = MINUTE_MS;

/** Failures without a wait, of an account at one address; each further one doubles the wait, up to the longest. */
export type GuessLimits = { freeGuesses: number; longestWaitMin: number };
/** Of members, and of users unless their team says otherwise. */
export const USUAL_LIMITS: GuessLimits = { freeGuesses: 8, longestWaitMin: 15 };
/** How many times as many are free for an account from everywhere, and for an address over all accounts. */
const FREE_TIMES = { pair: 1, account: 5, address: 7.5 } as const;

type Kind = keyof typeof FREE_TIMES;
type Row = { who: string; failures: number; lastAt: Date };
type Names = Record<Kind | 'familiar', string>;
/** What is known before the password is checked. `isNoted`: a success there would change nothing. */
export type Known = { isFamiliar: boolean; isNoted: boolean };

export class Guesses {
  /** @param table the table of guesses, of an environment or of the installation */
  constructor(
    private readonly database: Statements,
    private readonly now: () => number,
    private readonly table: string,
    private readonly limits: GuessLimits = USUAL_LIMITS,
  ) {}

  /**
   * @returns whether the account signed in from there before, for `noteSuccess` too
   * @throws {Problem} rate-exceeded
   */
  async demand(account: string, address: string): Promise<Known> {
    const names = namesOf(account, address);
    const rows = await this.database.runRows<Row>(`SELECT who, failures, lastAt FROM ${this.table} WHERE who IN (?)`, [
      Object.values(names),
    ]);
    const found = new Map(rows.map((row) => [row.who, row]));
    const isFamiliar = this.#age(found.get(names.familiar)) < FAMILIAR_MS;
    const longest = this.limits.longestWaitMin * MINUTE_MS;
    const waits = [
      this.#waitFor('pair', found.get(names.pair), longest),
      this.#waitFor('address', found.get(names.address), longest),
      isFamiliar ? 0 : this.#waitFor('account', found.get(names.account), LONGEST_ACCOUNT_WAIT_MS),
    ];
    const waitMs = Math.max(...waits);
    if (waitMs <= 0) {
      const isNoted = this.#age(found.get(names.familiar)) < NOTED_MS && found.get(names.pair)?.failures === 0;
      return { isFamiliar, isNoted };
    }
    const retryAfterS = Math.ceil(waitMs / 1000);
    throw new Problem('rate-exceeded', `Too many sign-ins have failed here. Wait ${retryAfterS} s, or set a new password.`, {
      retryAfterS,
    });
  }

  async noteFailure(account: string, address: string): Promise<void> {
    const { pair, account: whole, address: from } = namesOf(account, address);
    const now = new Date(this.now());
    const forgotten = new Date(this.now() - FORGET_MS);
    await this.database.run(
      `INSERT INTO ${this.table} (who, failures, lastAt) VALUES ?
       ON DUPLICATE KEY UPDATE failures = IF(lastAt < ?, 1, failures + 1), lastAt = VALUES(lastAt)`,
      [[pair, whole, from].map((who) => [who, 1, now]), forgotten],
    );
  }

  /**
   * Makes the address one of the account's own, and forgets failures there.
   * @param known what `demand` answered: who signs in again and again costs no write
   */
  async noteSuccess(account: string, address: string, known: Known): Promise<void> {
    if (known.isNoted) return;
    const { pair, familiar } = namesOf(account, address);
    await this.database.run(
      `INSERT INTO ${this.table} (who, failures, lastAt) VALUES ? ON DUPLICATE KEY UPDATE failures = 0, lastAt = VALUES(lastAt)`,
      [[pair, familiar].map((who) => [who, 0, new Date(this.now())])],
    );
  }

  #age(row: Row | undefined): number {
    return row ? this.now() - row.lastAt.getTime() : Number.POSITIVE_INFINITY;
  }

  /** The remaining wait in milliseconds: 2 s after the first failure beyond the free ones, doubled with each further one. */
  #waitFor(kind: Kind, row: Row | undefined, longest: number): number {
    const beyond = (row?.failures ?? 0) - Math.round(this.limits.freeGuesses * FREE_TIMES[kind]);
    if (beyond < 0 || this.#age(row) > FORGET_MS) return 0;
    return Math.min(longest, 2_000 * 2 ** Math.min(beyond, 20)) - this.#age(row);
  }
}

/** Hashes: a dump must not reveal who tried to sign in. */
function namesOf(account: string, address: string): Names {
  const name = (...parts: string[]) => createHash('sha256').update(JSON.stringify(parts)).digest('base64url');
  return {
    pair: name('pair', account, address),
    account: name('account', account),
    address: name('address', address),
    familiar: name('familiar', account, address),
  };
}

/** Forgets what no longer counts. */
export async function forgetGuesses({ database, now }: { database: Statements; now: () => number }, table: string): Promise<void> {
  await database.run(`DELETE FROM ${table} WHERE lastAt < ? OR (failures > 0 AND lastAt < ?) LIMIT 10000`, [
    new Date(now() - FAMILIAR_MS),
    new Date(now() - FORGET_MS),
  ]);
}
