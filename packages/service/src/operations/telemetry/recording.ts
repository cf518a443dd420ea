/** What an environment keeps of its calls beyond their counts. */
import type { Recording } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { guarded } from '../../platform/upkeep.js';
import { Settings } from '../../platform/settings/settingStore.js';
import type { Platform } from '../../platform/platform.js';

const REFRESH_MS = 5_000;

export const NO_BODIES: Recording = { headers: true, bodies: false, maskedFields: [] };
/** Where people develop, a refused body is what they look for; elsewhere it is somebody's data. */
const defaults = ({ name }: Pick<Environment, 'name'>): Recording => ({ headers: true, bodies: name === 'dev', maskedFields: [] });

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

  async change(environment: Environment, changes: Partial<Recording>, updatedAt: Date): Promise<Recording> {
    this.settings.forget(environment);
    const next = { ...(await this.settings.read(environment)), ...changes };
    await this.settings.write(environment, next, updatedAt);
    this.#latest.set(environment.id, { value: next, readAt: this.parts.now() });
    return next;
  }
}
