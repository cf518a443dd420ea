/** Resolves keys and environments. Results are cached for a few seconds. */
import { setTimeout as sleep } from 'node:timers/promises';
import { Problem, type Scope } from '@orchard/contract';
import { readKey } from '@orchard/core';
import { and, eq, isNotNull, isNull } from 'drizzle-orm';
import { LRUCache } from 'lru-cache';
import type { Database } from '../database/connection.js';
import { clearing, outsideUnit } from '../database/unit.js';
import { INSTALLATION, type Servers } from '../database/servers.js';
import { apps, clients, environments, keys } from './systemTables.js';
import type { Environment, KeyHolder } from '../call.js';
import { type EnvironmentKeys, formerEnvironmentKeys, sealEnvironmentKeys, unsealEnvironmentKeys } from './environmentKeys.js';
import type { Actors } from '../actors.js';
import { deriveKey, hashKey } from './secrets.js';

/** A revoked key stops at once on the instance that revoked it, and within this time on the others. */
export const REMEMBER_MS = 5_000;
/** How often it is looked where a moving environment is. */
const FOLLOW_MS = 100;
/** How often a write that is held is looked after, and how long at most. */
const HELD_MS = 40;
const LONGEST_HOLD_MS = 12_000;

export class Directory {
  readonly #holders = new LRUCache<string, KeyHolder>({ max: 20_000, ttl: REMEMBER_MS });
  readonly #environments = new LRUCache<string, Environment>({ max: 5_000, ttl: REMEMBER_MS });
  readonly #usedKeys = new Set<string>();

  readonly #database: Database;

  readonly #following = new Set<string>();
  /** Since when writes of an environment are held, and when one last asked. */
  readonly #held = new Map<string, { since: number; last: number }>();

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
      movedTo: row.movedTo,
      actors: this.actors,
      keys: this.#keysOf(row),
      sealedFor: row.sealedFor ?? row.id,
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

  /** For calls that no key places. @throws {Problem} not-found; MovedAway */
  async here(app: string, name: string): Promise<Environment> {
    return demandHere(await this.environment(app, name));
  }

  /** The environment with this id, or null when it is gone. @throws MovedAway */
  async hereById(id: string): Promise<Environment | null> {
    const [row] = await this.#database.orm.select().from(environments).where(eq(environments.id, id));
    return row ? demandHere(this.present(row)) : null;
  }

  /** The environment with this id; null when it is gone, or has moved to another installation. */
  async environmentById(id: string): Promise<Environment | null> {
    const [row] = await this.#database.orm.select().from(environments).where(eq(environments.id, id));
    return row && row.movedTo === null ? this.present(row) : null;
  }

  /** All that live here. */
  async allEnvironments(): Promise<Environment[]> {
    return (await this.#database.orm.select().from(environments).where(isNull(environments.movedTo))).map((row) => this.present(row));
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
      movedTo: null,
      keys: { data: deriveKey(this.secretKey, 'installation'), tokens: deriveKey(this.secretKey, 'installation tokens') },
      sealedFor: INSTALLATION,
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

  /** Ids of the keys seen since the last call, for their "last used". */
  takeUsedKeys(): string[] {
    const used = [...this.#usedKeys];
    this.#usedKeys.clear();
    return used;
  }

  async clientNames(environmentId: string): Promise<string[]> {
    const rows = await this.#database.orm.select({ name: clients.name }).from(clients).where(eq(clients.environmentId, environmentId));
    return rows.map(({ name }) => name);
  }

  /**
   * Looks after environments that are moving: one that has arrived is used where it is from then on. Each instance does so for
   * itself, since what it holds of an environment knows the server.
   */
  async followMoves(): Promise<void> {
    const rows = await this.#database.orm.select({ id: environments.id }).from(environments).where(isNotNull(environments.moving));
    await Promise.all(rows.map(({ id }) => this.#follow(id)));
  }

  /** Follows one move until it has ended; only once at a time. */
  async #follow(id: string): Promise<void> {
    if (this.#following.has(id)) return;
    this.#following.add(id);
    try {
      while ((await this.#whereIs(id))?.moving) await sleep(FOLLOW_MS);
    } finally {
      this.#following.delete(id);
      this.forget();
    }
  }

  /** Reads anew where an environment is, which also brings what is held of it there. */
  async #whereIs(id: string): Promise<{ moving: string | null; movedTo: string | null; server: Database } | null> {
    const [row] = await outsideUnit(() => this.#database.orm.select().from(environments).where(eq(environments.id, id)));
    return row ? { moving: row.moving, movedTo: row.movedTo, server: this.present(row).db.server } : null;
  }

  /**
   * Asked for a write that a move holds: waits a moment.
   * @returns where to try it again; null where it has been held for too long
   * @throws MovedAway
   */
  async whenMoved(id: string): Promise<Database | null> {
    const now = performance.now();
    const held = this.#held.get(id);
    // What was held before belongs to another attempt of the move.
    const since = held && now - held.last < 20 * HELD_MS ? held.since : now;
    this.#held.set(id, { since, last: now });
    if (now - since > LONGEST_HOLD_MS) return null;
    await sleep(HELD_MS);
    const found = await this.#whereIs(id);
    if (found?.movedTo) throw new MovedAway(found.movedTo);
    return found?.server ?? null;
  }

  /** Clears the cache after a change to keys, clients or environments. */
  forget(): void {
    clearing(() => {
      this.#holders.clear();
      this.#environments.clear();
    });
  }
}

/** The environment lives in another installation: the call is passed on there. */
export class MovedAway extends Error {
  /** @param to the address of that installation */
  constructor(readonly to: string) {
    super(`the environment has moved to ${to}`);
  }
}

/** @throws MovedAway */
export function demandHere(environment: Environment): Environment {
  if (environment.movedTo !== null) throw new MovedAway(environment.movedTo);
  return environment;
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
