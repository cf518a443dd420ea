/** Resolves keys and environments. Results are cached for a few seconds. */
import { Problem, type Scope } from '@orchard/contract';
import { readKey } from '@orchard/core';
import { and, eq, isNull } from 'drizzle-orm';
import { LRUCache } from 'lru-cache';
import type { Database } from '../database/connection.js';
import { clearing } from '../database/unit.js';
import { INSTALLATION, type Servers } from '../database/servers.js';
import { apps, clients, environments, keys } from './systemTables.js';
import type { Environment, KeyHolder } from '../call.js';
import { type EnvironmentKeys, formerEnvironmentKeys, sealEnvironmentKeys, unsealEnvironmentKeys } from './environmentKeys.js';
import type { Actors } from '../actors.js';
import { deriveKey, hashKey } from './secrets.js';

/** A revoked key stops at once on the instance that revoked it, and within this time on the others. */
const REMEMBER_MS = 5_000;

export class Directory {
  readonly #holders = new LRUCache<string, KeyHolder>({ max: 20_000, ttl: REMEMBER_MS });
  readonly #environments = new LRUCache<string, Environment>({ max: 5_000, ttl: REMEMBER_MS });
  readonly #usedKeys = new Set<string>();

  readonly #database: Database;

  /** By their sealed form. */
  readonly #keys = new LRUCache<string, EnvironmentKeys>({ max: 5_000 });

  constructor(
    private readonly servers: Servers,
    private readonly secretKey: Buffer,
    private readonly actors: Actors,
  ) {
    this.#database = servers.main;
  }

  /**
   * Finds the environment, client and rights behind a key.
   * @throws {Problem} key-missing, key-mistyped, key-unknown; key-revoked with the environment it belonged to
   */
  async holderOf(text: string | undefined): Promise<KeyHolder> {
    if (!text) throw new Problem('key-missing');
    const known = this.#holders.get(text);
    if (known) return known;
    const reading = readKey(text);
    if (!reading.ok) {
      throw new Problem(
        'key-mistyped',
        reading.reason === 'shape'
          ? 'This is not a key of Vivid Orchard. A client key begins with `ckey-`, a server key with `skey-`.'
          : 'The check characters of the key do not match: a character is wrong or missing. Copy the whole key again.',
      );
    }
    if (reading.kind !== 'client' && reading.kind !== 'server') {
      throw new Problem(
        'key-wrong-kind',
        'This is a token for members. Apps send a client key, `ckey-…`, backends a server key, `skey-…`.',
      );
    }
    const holder = await this.#load(hashKey(text));
    this.#holders.set(text, holder);
    this.#usedKeys.add(holder.key.id);
    return holder;
  }

  /** What the form of a key says, without a lookup. */
  remembered(text: string | string[] | undefined): KeyHolder | undefined {
    return typeof text === 'string' ? this.#holders.get(text) : undefined;
  }

  async #load(hash: string): Promise<KeyHolder> {
    const [row] = await this.#database.orm
      .select({ key: keys, client: clients, environment: environments })
      .from(keys)
      .innerJoin(environments, eq(environments.id, keys.environmentId))
      .innerJoin(clients, and(eq(clients.environmentId, keys.environmentId), eq(clients.name, keys.client)))
      .where(eq(keys.hash, hash));
    if (!row) throw new Problem('key-unknown');
    const environment = this.present(row.environment);
    if (row.key.revokedAt) {
      throw new RevokedKey(
        environment,
        row.client.name,
        `The key …${row.key.hint} of client ${row.client.name} (${environment.app}/${environment.name}) was revoked at ${row.key.revokedAt.toISOString()}. Create a new one under Setup, Clients and keys.`,
      );
    }
    return {
      environment,
      client: { name: row.client.name, kind: row.client.kind, origins: row.client.origins },
      key: { id: row.key.id, kind: row.key.kind as 'client' | 'server', name: row.key.name, scopes: row.key.scopes as Scope[] },
    };
  }

  /**
   * An environment as calls see it, from its row.
   * @param demandsSecondFactor of its app; only what members may do depends on it
   */
  present(row: typeof environments.$inferSelect, demandsSecondFactor = false): Environment {
    return {
      id: row.id,
      app: row.app,
      name: row.name,
      mode: row.mode as Environment['mode'],
      db: this.servers.databaseOf(row.id, row.server),
      server: row.server,
      actors: this.actors,
      keys: this.#keysOf(row),
      demandsSecondFactor,
      createdAt: row.createdAt,
      triggers: row.triggers,
      widening: Boolean(row.widening),
    };
  }

  #keysOf({ id, sealedKeys }: Pick<typeof environments.$inferSelect, 'id' | 'sealedKeys'>): EnvironmentKeys {
    if (sealedKeys === null) return formerEnvironmentKeys(this.secretKey, id);
    let keys = this.#keys.get(sealedKeys);
    if (!keys) this.#keys.set(sealedKeys, (keys = unsealEnvironmentKeys(this.secretKey, id, sealedKeys)));
    return keys;
  }

  /** Creates the keys of environments from before there were any; of two concurrent instances one succeeds. */
  async giveKeys(random: (bytes: number) => Buffer): Promise<void> {
    const rows = await this.#database.orm.select().from(environments).where(isNull(environments.sealedKeys));
    for (const { id } of rows) {
      const keys = { data: random(32), tokens: formerEnvironmentKeys(this.secretKey, id).tokens };
      await this.#database.orm
        .update(environments)
        .set({ sealedKeys: sealEnvironmentKeys(this.secretKey, id, keys) })
        .where(and(eq(environments.id, id), isNull(environments.sealedKeys)));
    }
    this.forget();
  }

  /** @throws {Problem} not-found, naming what is missing */
  async environment(app: string, name: string): Promise<Environment> {
    const known = this.#environments.get(`${app}/${name}`);
    if (known) return known;
    const [row] = await this.#database.orm
      .select({ environment: environments, secondFactor: apps.secondFactor })
      .from(environments)
      .innerJoin(apps, eq(apps.name, environments.app))
      .where(and(eq(environments.app, app), eq(environments.name, name)));
    if (!row) {
      const [found] = await this.#database.orm.select().from(apps).where(eq(apps.name, app));
      throw new Problem('not-found', found ? `The app \`${app}\` has no environment \`${name}\`.` : `There is no app \`${app}\`.`);
    }
    const environment = this.present(row.environment, row.secondFactor);
    this.#environments.set(`${app}/${name}`, environment);
    return environment;
  }

  /** The environment with this id, or null when it is gone. */
  async environmentById(id: string): Promise<Environment | null> {
    const [row] = await this.#database.orm.select().from(environments).where(eq(environments.id, id));
    return row ? this.present(row) : null;
  }

  async allEnvironments(): Promise<Environment[]> {
    return (await this.#database.orm.select().from(environments)).map((row) => this.present(row));
  }

  /** The installation in the place of an environment, for what both have: gateways and jobs. */
  installation(): Environment {
    return {
      id: INSTALLATION,
      app: '',
      name: INSTALLATION,
      mode: 'closed',
      db: this.servers.installation,
      server: null,
      keys: { data: deriveKey(this.secretKey, 'installation'), tokens: deriveKey(this.secretKey, 'installation tokens') },
      actors: this.actors,
      demandsSecondFactor: false,
      createdAt: new Date(0),
      triggers: 0,
      widening: false,
    };
  }

  /** Records that all collections of an environment have triggers of this form. */
  async noteTriggers({ id }: Environment, triggers: number): Promise<void> {
    await this.#database.orm.update(environments).set({ triggers }).where(eq(environments.id, id));
    this.forget();
  }

  /** Ids of the keys seen since the last call, for their «last used». */
  takeUsedKeys(): string[] {
    const used = [...this.#usedKeys];
    this.#usedKeys.clear();
    return used;
  }

  async clientNames(environmentId: string): Promise<string[]> {
    const rows = await this.#database.orm.select({ name: clients.name }).from(clients).where(eq(clients.environmentId, environmentId));
    return rows.map(({ name }) => name);
  }

  /** Clears the cache after a change to keys, clients or environments. */
  forget(): void {
    clearing(() => {
      this.#holders.clear();
      this.#environments.clear();
    });
  }
}

/** The environment of a refused key, so that the call is counted there. */
export class RevokedKey extends Problem {
  constructor(
    readonly environment: Environment,
    readonly client: string,
    detail: string,
  ) {
    super('key-revoked', detail);
  }
}
