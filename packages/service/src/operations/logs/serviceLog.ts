/** What the service itself has to say in an environment: gathered in memory, and written together. */
import { maskSecrets, plainText } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import type { ServiceEntry } from '../../platform/ports.js';
import { WriteBehind } from '../../platform/writeBehind.js';
import { fieldsOf } from './intake.js';
import type { Levels } from './levels.js';
import { insertEntries, levelNumber, type LogRow } from './logStore.js';

/** Most entries kept while the database is away. */
const MOST_WAITING = 20_000;
/** Of one source in a minute: a gateway that refuses a million messages says the same a million times. */
const MOST_A_MINUTE = 600;
const MINUTE_MS = 60_000;

export class ServiceLog {
  readonly #rows: WriteBehind<LogRow>;
  readonly #said = new Map<string, number>();
  #minute = 0;

  constructor(private readonly parts: Platform & { levels: Levels }) {
    this.#rows = new WriteBehind(parts.log, {
      what: 'log entries',
      most: MOST_WAITING,
      write: async (environment, rows) => {
        await insertEntries(environment.db, rows);
        parts.changes.wake(environment.id);
      },
    });
  }

  start(): void {
    this.#rows.start();
  }

  /** Takes an entry, without I/O. */
  add(environment: Environment, { level, source, text, fields, trace }: ServiceEntry): void {
    if (!this.parts.levels.keeps(environment, source, level)) return;
    const said = this.#countIn(environment, source);
    if (said > MOST_A_MINUTE) return;
    const isLast = said === MOST_A_MINUTE;
    this.#rows.add(environment, () => ({
      at: new Date(this.parts.now()),
      id: this.parts.newId(),
      level: levelNumber(level),
      source: source.slice(0, 60),
      text: plainText(maskSecrets(isLast ? `${text} (More of this source is left out until the minute is over.)` : text), 4_000),
      fields: fieldsOf(typeof fields === 'function' ? fields() : fields),
      trace: trace ?? null,
      deviceId: null,
      userId: null,
      version: null,
      error: null,
    }));
  }

  /** How many entries a source had in this minute, with this one. */
  #countIn({ id }: Pick<Environment, 'id'>, source: string): number {
    const minute = Math.floor(this.parts.now() / MINUTE_MS);
    if (minute !== this.#minute) {
      this.#minute = minute;
      this.#said.clear();
    }
    const key = `${id} ${source}`;
    const said = (this.#said.get(key) ?? 0) + 1;
    this.#said.set(key, said);
    return said;
  }

  flush(): Promise<void> {
    return this.#rows.flush();
  }

  stop(): Promise<void> {
    return this.#rows.stop();
  }
}
