/** Which log entries are kept: a level for each source, raised for a while where somebody looks closer. */
import type { LogLevels } from '@orchard/contract';
import { isAtLeast, type LogLevel } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { Settings } from '../../platform/settings/settingStore.js';
import type { Platform } from '../../platform/platform.js';
import { guarded } from '../../platform/upkeep.js';

const REFRESH_MS = 3_000;
const defaults = (): LogLevels => ({ levels: { '*': 'info' }, raised: [], days: 14 });

type Change = { source?: string | undefined; level?: LogLevel | undefined; minutes?: number | undefined; days?: number | undefined };

export class Levels {
  readonly #settings = new Settings<LogLevels>('log', defaults);
  readonly #latest = new Map<string, { value: LogLevels; readAt: number }>();

  constructor(private readonly parts: Pick<Platform, 'log' | 'metrics' | 'now'>) {}

  /** Those in force: what was raised for a while has fallen back by itself. */
  async read(environment: Environment): Promise<LogLevels> {
    const value = await this.#settings.read(environment);
    const current = { ...value, raised: value.raised.filter(({ until }) => Date.parse(until) > this.parts.now()) };
    this.#latest.set(environment.id, { value: current, readAt: this.parts.now() });
    return current;
  }

  async change(environment: Environment, { source = '*', level, minutes, days }: Change): Promise<LogLevels> {
    this.#settings.forget(environment);
    const before = await this.read(environment);
    const now = this.parts.now();
    const next: LogLevels = { ...before, ...(days === undefined ? {} : { days }) };
    if (level !== undefined && minutes !== undefined)
      next.raised = [
        ...before.raised.filter((one) => one.source !== source),
        { source, level, until: new Date(now + minutes * 60_000).toISOString() },
      ];
    else if (level !== undefined) {
      next.levels = { ...before.levels, [source]: level };
      next.raised = before.raised.filter((one) => one.source !== source);
    }
    await this.#settings.write(environment, next, new Date(now));
    return this.read(environment);
  }

  /** Whether an entry is kept, by settings that may be some seconds old, without waiting. */
  keeps(environment: Environment, source: string, level: LogLevel): boolean {
    const known = this.#latest.get(environment.id);
    if (!known || this.parts.now() - known.readAt > REFRESH_MS) {
      this.#latest.set(environment.id, { value: known?.value ?? defaults(), readAt: this.parts.now() });
      void guarded(this.parts, 'read the levels of the log', { environment: environment.id }, () => this.read(environment));
    }
    return keptBy(known?.value ?? defaults(), source, level, this.parts.now());
  }
}

export function keptBy({ levels, raised }: LogLevels, source: string, level: LogLevel, now: number): boolean {
  const isRaised = raised.some(
    (one) => (one.source === '*' || one.source === source) && Date.parse(one.until) > now && isAtLeast(level, one.level),
  );
  return isRaised || isAtLeast(level, levels[source] ?? levels['*'] ?? 'info');
}
