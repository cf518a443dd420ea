/** Second factors of somebody: what is added and removed, and how one proves who one is with them. */
import { Problem, type SecondFactor } from '@orchard/contract';
import { base32, type JsonObject } from '@orchard/core';
import type { Guesses } from '../guesses.js';
import { hashKey, seal, unseal } from '../secrets.js';
import type { FactorRow, FactorStore } from './factorStore.js';
import type { Passkeys } from './passkeys.js';
import { newTimeSecret, readTimeCode } from './timeCodes.js';

const RECOVERY_CODES = 10;
/** 60 bits, in three groups of four characters. */
const CODE_BYTES = 8;

const contextOf = (factorId: string) => `second factor ${factorId}`;
const plain = (code: string): string => code.replace(/[\s-]/g, '').toLowerCase();

export const presentFactor = ({ id, kind, name, createdAt, lastUsedAt }: FactorRow): SecondFactor => ({
  id,
  kind: kind as SecondFactor['kind'],
  name,
  createdAt: createdAt.toISOString(),
  lastUsedAt: lastUsedAt?.toISOString() ?? null,
});

type Ground = {
  store: FactorStore;
  passkeys: Passkeys;
  /** Seals the secrets of authenticator apps. */
  key: Buffer;
  guesses: Guesses;
  newId: () => string;
  random: (bytes: number) => Buffer;
  now: () => number;
};

export class Factors {
  readonly store: FactorStore;
  readonly passkeys: Passkeys;

  constructor(private readonly ground: Ground) {
    this.store = ground.store;
    this.passkeys = ground.passkeys;
  }

  /** Begins to add an authenticator app, which shows `label` and `issuer`. */
  async addAuthenticator(
    ownerId: string,
    name: string,
    { label, issuer }: { label: string; issuer: string },
  ): Promise<{ id: string; secret: string; uri: string }> {
    const { newId, random, now, key } = this.ground;
    const id = newId();
    // RFC 4226 section 4, R6: 160 bits are recommended.
    const { secret, uri } = newTimeSecret(random(20), label, issuer);
    const sealed = seal(key, contextOf(id), secret);
    await this.store.add({ id, ownerId, kind: 'authenticator', name, sealed, createdAt: new Date(now()) });
    return { id, secret, uri };
  }

  /** An authenticator app whose first code is right. @throws {Problem} not-found, second-factor-refused, rate-exceeded */
  async readFirstCode(ownerId: string, id: string, code: string, address: string): Promise<FactorRow> {
    const row = await this.store.find(ownerId, id);
    if (!row?.sealed) throw new Problem('not-found', `You have no authenticator app ${id}. Begin to add it again.`);
    await this.#guarding(ownerId, address, () => this.#useTimeCode([row], plain(code)));
    return row;
  }

  /** Stores a passkey that was created. @throws {Problem} second-factor-refused */
  async addPasskey(ownerId: string, name: string, passkey: JsonObject): Promise<FactorRow> {
    const read = await this.passkeys.readNew(ownerId, passkey);
    const row = { id: this.ground.newId(), ownerId, kind: 'passkey', name, createdAt: new Date(this.ground.now()), ...read };
    await this.store.add(row);
    return row as FactorRow;
  }

  /** A new factor counts from now on. @returns recovery codes with the first one */
  async finish({ id, ownerId }: FactorRow): Promise<string[] | null> {
    const isFirst = (await this.store.confirmed(ownerId)).length === 0;
    await this.store.confirm(id, new Date(this.ground.now()));
    return isFirst ? this.renewRecoveryCodes(ownerId) : null;
  }

  /** @throws {Problem} not-found */
  async remove(ownerId: string, id: string): Promise<void> {
    if (!(await this.store.find(ownerId, id))) throw new Problem('not-found', `You have no second factor ${id}.`);
    await this.store.remove(ownerId, id);
    if ((await this.store.confirmed(ownerId)).length === 0) await this.store.setRecoveryCodes(ownerId, []);
  }

  /** Ten new recovery codes in place of the earlier ones. */
  async renewRecoveryCodes(ownerId: string): Promise<string[]> {
    const codes = Array.from({ length: RECOVERY_CODES }, () => base32(this.ground.random(CODE_BYTES)).slice(0, 12));
    await this.store.setRecoveryCodes(ownerId, codes.map(hashKey));
    return codes.map((code) => `${code.slice(0, 4)}-${code.slice(4, 8)}-${code.slice(8)}`);
  }

  /** @throws {Problem} wrong-state, for somebody without a second factor */
  async demandAny(ownerId: string): Promise<void> {
    if ((await this.store.confirmed(ownerId)).length === 0)
      throw new Problem('wrong-state', 'You have no second factor yet. Add one first; recovery codes come with it.');
  }

  /** Checks a code of an authenticator app, or a recovery code. @throws {Problem} second-factor-refused, rate-exceeded */
  useCode(ownerId: string, code: string, address: string): Promise<void> {
    return this.#guarding(ownerId, address, () => this.#useCode(ownerId, plain(code)));
  }

  /** Slows down guessing: codes are short. */
  async #guarding(ownerId: string, address: string, work: () => Promise<void>): Promise<void> {
    const { guesses } = this.ground;
    const account = `second factor of ${ownerId}`;
    const known = await guesses.demand(account, address);
    try {
      await work();
    } catch (error) {
      await guesses.noteFailure(account, address);
      throw error;
    }
    await guesses.noteSuccess(account, address, known);
  }

  /** A code of an authenticator app is six digits; anything else is a recovery code. */
  async #useCode(ownerId: string, code: string): Promise<void> {
    if (/^\d{6}$/.test(code)) {
      const rows = (await this.store.confirmed(ownerId)).filter(({ sealed }) => sealed !== null);
      return this.#useTimeCode(rows, code);
    }
    if (!(await this.store.useRecoveryCode(ownerId, hashKey(code))))
      throw new Problem(
        'second-factor-refused',
        'This is neither a code of six digits nor an unused recovery code. Each recovery code works once.',
      );
  }

  /** @throws {Problem} second-factor-refused, that says why */
  async #useTimeCode(rows: readonly FactorRow[], code: string): Promise<void> {
    const now = this.ground.now();
    let why = 'The code is wrong. Enter the one your authenticator app shows now.';
    for (const row of rows) {
      const secret = unseal(this.ground.key, contextOf(row.id), row.sealed as string).toString();
      const read = readTimeCode(secret, code, row.drift, now);
      if (read.ok) {
        // RFC 6238 section 5.2: a code that was accepted must not be accepted again.
        if (await this.store.useStep(row.id, read.step, read.drift, new Date(now))) return;
        why = 'This code was used already. Wait for the next one.';
      } else if (read.aheadS !== null) why = clockWords(read.aheadS);
    }
    throw new Problem('second-factor-refused', why);
  }
}

function clockWords(aheadS: number): string {
  const off = Math.abs(aheadS);
  const words = off < 90 ? `${off} seconds` : `${Math.round(off / 60)} minutes`;
  return `The code is one of another time: the clock of your device is about ${words} ${aheadS > 0 ? 'ahead' : 'behind'}. Set it by the network, and enter the next code.`;
}
