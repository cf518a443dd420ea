/** What an environment keeps of its calls beyond their counts. */
import { type KeptDays, Problem, type Recording } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { guarded } from '../../platform/upkeep.js';
import { Settings } from '../../platform/settings/settingStore.js';
import type { Platform } from '../../platform/platform.js';

const REFRESH_MS = 5_000;

/** Thirteen months of days, so that a month can be set beside the same one a year before. */
const KEPT_DAYS: KeptDays = { requests: null, minutes: 35, hours: 100, days: 400 };
export const NO_BODIES: Recording = { headers: true, bodies: false, maskedFields: [], keptDays: KEPT_DAYS };
/** Where people develop, a refused body is what they look for; elsewhere it is somebody's data. */
const defaults = ({ name }: Pick<Environment, 'name'>): Recording => ({
  ...NO_BODIES,
  bodies: name === 'dev',
});

export class RecordingSettings {
  readonly settings = new Settings<Recording>('recording', defaults);
  readonly #latest = new Map<string, { value: Recording; readAt: number }>();

  constructor(private readonly parts: Pick<Platform, 'log' | 'metrics' | 'now'>) {}

  /** As they were some seconds ago, without waiting: a call is recorded without I/O. */
  now(environment: Environment): Recording {
    const known = this.#latest.get(environment.id);
    const readAt = this.parts.now();
    if (!known || readAt - known.readAt > REFRESH_MS) {
      this.#latest.set(environment.id, { value: known?.value ?? NO_BODIES, readAt });
      void guarded(this.parts, 'read what is recorded', { environment: environment.id }, async () => {
        this.#latest.set(environment.id, { value: await this.settings.read(environment), readAt });
      });
    }
    return known?.value ?? NO_BODIES;
  }

  /** @throws {Problem} invalid-input */
  async change(environment: Environment, { keptDays, ...changes }: RecordingChanges, updatedAt: Date): Promise<Recording> {
    this.settings.forget(environment);
    const before = await this.settings.read(environment);
    const next = { ...before, ...changes, keptDays: { ...before.keptDays, ...keptDays } };
    demandOrder(next.keptDays);
    await this.settings.write(environment, next, updatedAt);
    this.#latest.set(environment.id, { value: next, readAt: this.parts.now() });
    return next;
  }
}

type RecordingChanges = Partial<Omit<Recording, 'keptDays'>> & { keptDays?: Partial<KeptDays> | undefined };

/** Longer steps are summed from shorter ones, and answer for them once those are gone. */
function demandOrder({ minutes, hours, days }: KeptDays): void {
  if (minutes <= hours && hours <= days) return;
  throw new Problem(
    'invalid-input',
    `Nothing was changed. Counts by the hour must be kept at least as long as those by the minute, and days as long as hours; here it is ${minutes}, ${hours} and ${days} days.`,
    {
      fields: [
        { path: 'body.keptDays', problem: 'A longer step would be forgotten before a shorter one.', expected: 'minutes ≤ hours ≤ days' },
      ],
    },
  );
}
