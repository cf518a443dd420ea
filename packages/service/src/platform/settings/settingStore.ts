/** Named settings of an environment, as JSON. Each room has names of its own. */
import type { JsonObject } from '@orchard/core';
import { eq } from 'drizzle-orm';
import { LRUCache } from 'lru-cache';
import type { Environment } from '../call.js';
import { storedJson } from '../database/storedJson.js';
import { afterCommit, isInUnit } from '../database/unit.js';
import { settingTable } from './tables.js';

/** Another instance sees a change within this time. */
const REMEMBER_MS = 2_000;

/** All settings of this process. */
const all = new Set<Pick<Settings<object>, 'forget'>>();

/** What another instance wrote of an environment is seen from the next look on. */
export function forgetSettings(environment: Pick<Environment, 'id'>): void {
  for (const settings of all) settings.forget(environment);
}

/** The settings of one name in every environment. */
export class Settings<Value extends object> {
  readonly #known = new LRUCache<string, Value>({ max: 1000, ttl: REMEMBER_MS });
  /** Rises with each change: what was read before one is not remembered after it. */
  #changes = 0;

  /** @param defaults what holds where nothing was set */
  constructor(
    private readonly name: string,
    private readonly defaults: (environment: Pick<Environment, 'name'>) => Value,
  ) {
    all.add(this);
  }

  async read(environment: Environment): Promise<Value> {
    const known = this.#known.get(environment.id);
    if (known) return known;
    const { db } = environment;
    const changes = this.#changes;
    const [row] = await db.orm.select({ value: settingTable.value }).from(db.table(settingTable)).where(eq(settingTable.name, this.name));
    const value = { ...this.defaults(environment), ...(row ? storedJson(row.value) : {}) };
    if (changes === this.#changes) this.#known.set(environment.id, value);
    return value;
  }

  /** Stores the whole value. */
  async write(environment: Environment, value: Value, updatedAt: Date): Promise<void> {
    const { db } = environment;
    const stored = value as unknown as JsonObject;
    await db.orm
      .insert(db.table(settingTable))
      .values({ name: this.name, value: stored, updatedAt })
      .onDuplicateKeyUpdate({ set: { value: stored, updatedAt } });
    this.#changes++;
    this.#known.set(environment.id, value);
    // Until the commit others read the former value.
    if (isInUnit()) afterCommit(() => this.forget(environment));
  }

  /** Before a change is made: what another instance wrote must be seen. */
  forget({ id }: Pick<Environment, 'id'>): void {
    this.#changes++;
    this.#known.delete(id);
  }
}
