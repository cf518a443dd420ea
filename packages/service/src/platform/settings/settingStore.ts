/** Named settings of an environment, as JSON. Each room has names of its own. */
import type { JsonObject } from '@orchard/core';
import { eq } from 'drizzle-orm';
import { LRUCache } from 'lru-cache';
import type { Environment } from '../call.js';
import { storedJson } from '../database/storedJson.js';
import { settingTable } from './tables.js';

/** Another instance sees a change within this time. */
const REMEMBER_MS = 2_000;

/** The settings of one name in every environment. */
export class Settings<Value extends object> {
  readonly #known = new LRUCache<string, Value>({ max: 1000, ttl: REMEMBER_MS });

  /** @param defaults what holds where nothing was set */
  constructor(
    private readonly name: string,
    private readonly defaults: (environment: Pick<Environment, 'name'>) => Value,
  ) {}

  async read(environment: Environment): Promise<Value> {
    const known = this.#known.get(environment.id);
    if (known) return known;
    const { db } = environment;
    const [row] = await db.orm.select({ value: settingTable.value }).from(db.table(settingTable)).where(eq(settingTable.name, this.name));
    const value = { ...this.defaults(environment), ...(row ? storedJson(row.value) : {}) };
    this.#known.set(environment.id, value);
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
    this.#known.set(environment.id, value);
  }

  /** Before a change is made: what another instance wrote must be seen. */
  forget({ id }: Pick<Environment, 'id'>): void {
    this.#known.delete(id);
  }
}
