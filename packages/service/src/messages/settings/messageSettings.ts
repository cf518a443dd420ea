/** Settings for messages of an environment. */
import type { Messaging } from '@orchard/contract';
import { DEFAULT_OPT_WORDS } from '@orchard/core/messages';
import type { Environment } from '../../platform/call.js';
import { Settings } from '../../platform/settings/settingStore.js';

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
  readonly #settings = new Settings<Messaging>('messaging', () => DEFAULTS);

  read(environment: Environment): Promise<Messaging> {
    return this.#settings.read(environment);
  }

  async change(environment: Environment, changes: MessageSettingsChanges, now: Date): Promise<Messaging> {
    this.#settings.forget(environment);
    const before = await this.read(environment);
    const given = Object.fromEntries(Object.entries(changes).filter(([, value]) => value !== undefined));
    const next = { ...before, ...given, optWords: { ...before.optWords, ...changes.optWords } } as Messaging;
    await this.#settings.write(environment, next, now);
    return next;
  }
}
