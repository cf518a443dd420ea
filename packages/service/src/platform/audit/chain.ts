/**
 * The chain of audit entries in one database: each entry has a MAC over itself and the MAC before it, under the
 * installation's key. Whoever can only write to the database cannot change, remove or add an entry unnoticed.
 */
import { createHmac } from 'node:crypto';
import type { AuditChain } from '@orchard/contract';
import { type AuditText, chainedText } from '@orchard/core';
import { deriveKey } from '../access/secrets.js';

export type StoredEntry = AuditText & { mac: string };
export type Head = { number: number; mac: string; seal: string };
export type NotedHead = { number: number; mac: string };
type Fault = AuditChain['faults'][number];

const MOST_FAULTS = 100;
export const EMPTY: NotedHead = { number: 0, mac: '' };

export class ChainKey {
  readonly #key: Buffer;

  constructor(secretKey: Buffer) {
    this.#key = deriveKey(secretKey, 'audit');
  }

  macOf(database: string, entry: AuditText, previousMac: string): string {
    return this.#mac(chainedText(database, entry, previousMac));
  }

  sealOf(database: string, { number, mac }: NotedHead): string {
    return this.#mac(JSON.stringify(['head', database, number, mac]));
  }

  fingerprintOf(text: string): string {
    return this.#mac(JSON.stringify(['value', text])).slice(0, 10);
  }

  #mac(text: string): string {
    return createHmac('sha256', this.#key).update(text).digest('base64url');
  }
}

/** Walks a chain from its first entry and collects what is wrong with it. */
export class ChainCheck {
  readonly faults: Fault[] = [];
  #number = 0;
  #mac = '';
  readonly #noted: Map<number, string>;

  /** @param noted heads from earlier, such as those in the log: each must still be in the chain */
  constructor(
    private readonly key: ChainKey,
    private readonly database: string,
    noted: readonly NotedHead[] = [],
  ) {
    this.#noted = new Map(noted.filter(({ number }) => number > 0).map(({ number, mac }) => [number, mac]));
  }

  /** The next entry, in order of numbers. */
  take(entry: StoredEntry): void {
    if (entry.number !== this.#number + 1) {
      const gap = entry.number - this.#number - 1;
      this.#note(
        this.#number + 1,
        'missing',
        `${gap === 1 ? 'Entry' : `${gap} entries from`} ${this.#number + 1} ${gap === 1 ? 'is' : 'are'} missing.`,
      );
      // Without the entry before it, only its place can be checked.
    } else if (this.key.macOf(this.database, entry, this.#mac) !== entry.mac) {
      this.#note(entry.number, 'changed', `Entry ${entry.number} is not what was written: it, or its MAC, was changed.`);
    }
    const noted = this.#noted.get(entry.number);
    if (noted !== undefined && noted !== entry.mac)
      this.#note(entry.number, 'not-in-chain', `The head noted for entry ${entry.number} is another one: the chain was rewritten.`);
    this.#noted.delete(entry.number);
    this.#number = entry.number;
    this.#mac = entry.mac;
  }

  /** After the last entry. @param head null where the table has none */
  end(head: Head | null): void {
    const { number, mac, seal } = head ?? { ...EMPTY, seal: '' };
    if (head && head.seal !== '' && this.key.sealOf(this.database, head) !== seal)
      this.#note(number, 'head-changed', 'The head of the chain was changed: its seal does not match.');
    if (number > this.#number)
      this.#note(this.#number + 1, 'cut-off', `The head names ${number} entries; the latest there is ${this.#number}.`);
    else if (number !== this.#number || mac !== this.#mac || (number > 0 && seal === ''))
      this.#note(this.#number, 'head-changed', `The head names entry ${number}; the latest is ${this.#number}, with another MAC.`);
    for (const noted of this.#noted.keys())
      this.#note(noted, 'cut-off', `A head was noted for entry ${noted}; the chain ends at ${this.#number}.`);
  }

  #note(number: number, fault: Fault['fault'], detail: string): void {
    if (this.faults.length < MOST_FAULTS) this.faults.push({ number, fault, detail });
  }
}
