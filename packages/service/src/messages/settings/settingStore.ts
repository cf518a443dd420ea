/** Settings for messages of an environment, one row of its settings table. */
import type { Messaging } from '@orchard/contract';
import { DEFAULT_OPT_WORDS } from '@orchard/core/messages';
import { LRUCache } from 'lru-cache';
import { storedJson } from '../../platform/database/storedJson.js';
import type { Environment } from '../../platform/call.js';
import { settingTable } from './tables.js';

const NAME = 'messaging';
/** Another instance sees a change within this time. */
const REMEMBER_MS = 2_000;
const DEFAULTS: Messaging = {
  retireAfterDays: 180,
  prices: {},
  currency: null,
  optWords: DEFAULT_OPT_WORDS,
  codeText: '{code} is your code. It is valid for ten minutes. Do not share it.',
};
export type MessageSettingsChanges = {
  [K in Exclude<keyof Messaging, 'optWords'>]?: Messaging[K] | undefined;
} & { optWords?: { out?: string[] | undefined; in?: string[] | undefined } | undefined };

export class MessageSettings {
  readonly #known = new LRUCache<string, Messaging>({ max: 1000, ttl: REMEMBER_MS });

  async read(environment: Environment): Promise<Messaging> {
    const known = this.#known.get(environment.id);
    if (known) return known;
    const [row] = await environment.db.rows<{ value: Partial<Messaging> }>(
      `SELECT value FROM ${environment.db.of(settingTable)} WHERE name = ?`,
      [NAME],
    );
    const settings = { ...DEFAULTS, ...(row ? storedJson(row.value) : {}) };
    this.#known.set(environment.id, settings);
    return settings;
  }

  async change(environment: Environment, changes: MessageSettingsChanges, now: Date): Promise<Messaging> {
    this.#known.delete(environment.id);
    const before = await this.read(environment);
    const given = Object.fromEntries(Object.entries(changes).filter(([, value]) => value !== undefined));
    const next = { ...before, ...given, optWords: { ...before.optWords, ...changes.optWords } } as Messaging;
    await environment.db.change(
      `INSERT INTO ${environment.db.of(settingTable)} (name, value, updatedAt) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE value = VALUES(value), updatedAt = VALUES(updatedAt)`,
      [NAME, JSON.stringify(next), now],
    );
    this.#known.set(environment.id, next);
    return next;
  }
}
