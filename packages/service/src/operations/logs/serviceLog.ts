/** What the service itself has to say in an environment: gathered in memory, and written together. */
import { isDatabaseAway } from '../../platform/database/errors.js';
import { maskSecrets, plainText } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import type { ServiceEntry } from '../../platform/ports.js';
import { fieldsOf } from './intake.js';
import type { Levels } from './levels.js';
import { insertEntries, levelNumber, type LogRow } from './logStore.js';

const FLUSH_MS = 1_000;
/** Most entries kept while the database is away. */
const MOST_WAITING = 20_000;
/** Of one source in a minute: a gateway that refuses a million messages says the same a million times. */
const MOST_A_MINUTE = 600;
const MINUTE_MS = 60_000;

export class ServiceLog {
  readonly #waiting = new Map<string, { environment: Environment; rows: LogRow[] }>();
  readonly #said = new Map<string, number>();
  #minute = 0;
  #timer: NodeJS.Timeout | null = null;

  constructor(private readonly parts: Platform & { levels: Levels }) {}

  start(): void {
    this.#timer = setInterval(() => void this.flush(), FLUSH_MS);
  }

  /** Takes an entry, without I/O. */
  add(environment: Environment, { level, source, text, fields, trace }: ServiceEntry): void {
    if (!this.parts.levels.keeps(environment, source, level)) return;
    let waiting = this.#waiting.get(environment.id);
    if (!waiting) this.#waiting.set(environment.id, (waiting = { environment, rows: [] }));
    const said = this.#countIn(environment, source);
    if (waiting.rows.length >= MOST_WAITING || said > MOST_A_MINUTE) return;
    const isLast = said === MOST_A_MINUTE;
    waiting.rows.push({
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
    });
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

  async flush(): Promise<void> {
    for (const waiting of this.#waiting.values()) {
      const { environment, rows } = waiting;
      if (rows.length === 0) continue;
      waiting.rows = [];
      try {
        await insertEntries(environment.db, rows);
        this.parts.changes.wake(environment.id);
      } catch (error) {
        if (isDatabaseAway(error)) waiting.rows = [...rows, ...waiting.rows];
        else this.parts.log.error({ err: error, environment: environment.id }, 'log entries could not be written and were dropped');
      }
    }
  }

  async stop(): Promise<void> {
    if (this.#timer) clearInterval(this.#timer);
    await this.flush();
  }
}
