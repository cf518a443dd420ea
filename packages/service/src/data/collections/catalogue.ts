/** The collections of each environment: cached, and read again when they may have changed. */
import { Problem } from '@orchard/contract';
import {
  type AccessRules,
  checkField,
  type Field,
  type Fields,
  type FieldType,
  type Json,
  type JsonObject,
  OWNER_ONLY,
  type ValueKind,
} from '@orchard/core';
import { LRUCache } from 'lru-cache';
import type { PoolConnection } from 'mysql2/promise';
import type { Environment } from '../../platform/call.js';
import type { Ports } from '../../platform/ports.js';
import { isGone } from '../../platform/database/errors.js';
import { deleteCollection, raiseRevision, readCollections, readMark, writeCollection, writeRules } from './catalogueStore.js';
import {
  addIndex,
  addKeys,
  addSilentColumns,
  bringUpToDate,
  createTable,
  keepEveryWord,
  modifyColumns,
  writeTriggers,
} from './collectionDdl.js';
import { FILES, NEW_FILES } from './filesShape.js';
import type { CollectionPorts } from './ports.js';
import { type CollectionShape, usersShape } from './shape.js';

/** All collections of an environment at one moment, and what was compiled from them. */
export type Shapes = {
  collections: ReadonlyMap<string, CollectionShape>;
  users: CollectionShape;
  /** What rules may ask of the user with `me('…')`, besides id and roles. */
  userFields: ReadonlyMap<string, ValueKind>;
  mark: string;
  checkedAt: number;
  /** Filters, rules and lists compiled for these shapes. */
  compiled: LRUCache<string, object>;
  /** The same with stricter read rules, by what these demand. */
  narrowed: LRUCache<string, Shapes>;
};

/** Conditions that differ with each user make shapes of their own; these are cheap to make again. */
const MOST_NARROWED = 50;
/** How long another instance's changes may go unnoticed; an unknown name is always read again. */
const RECHECK_MS = 2_000;
/** A change of a large table may take minutes; other changes of the environment are refused as busy meanwhile. */
const CHANGE_S = 600;

/** One change of an environment's collections at a time, on all instances. @throws {Problem} busy */
const underSchemaLease = <T>({ db }: Environment, work: (connection: PoolConnection) => Promise<T>): Promise<T> =>
  db.withLease('schema', () =>
    db.server.withConnection(async (connection) => {
      await keepEveryWord(connection);
      return work(connection);
    }, CHANGE_S),
  );

type SchemaWork<T> = (connection: PoolConnection, before: CollectionShape | null) => Promise<T>;

export class Catalogue {
  readonly #shapes = new LRUCache<string, Shapes>({ max: 2_000 });
  /** Loads in flight, shared by concurrent callers; one that a change has overtaken is not cached. */
  readonly #loading = new Map<string, { shapes: Promise<Shapes> }>();

  constructor(
    private readonly now: () => number,
    private readonly ports: Pick<Ports, 'userFields'>,
    private readonly elsewhere: CollectionPorts,
  ) {}

  /** Every collection of the team. */
  async all(environment: Environment): Promise<CollectionShape[]> {
    return [...(await this.#load(environment)).collections.values()].filter(({ name }) => name !== FILES);
  }

  /** The collection of files; an environment has it from their first use on. */
  async files(environment: Environment): Promise<CollectionShape> {
    const known = await this.find(environment, FILES);
    if (known) return known;
    const made = await this.extend(environment, FILES, NEW_FILES.fields, [], NEW_FILES.rules);
    await this.change(environment, FILES, async (connection, before) => {
      const there = new Set(before?.indexes.map(({ name }) => name));
      for (const index of NEW_FILES.indexes) if (!there.has(index.name)) await addIndex(connection, made, index);
      await raiseRevision(connection, environment.db, FILES);
    });
    return this.get(environment, FILES);
  }

  /** All shapes of the environment, at most 2 s old; read again when it has no `wanted` collection. */
  async shapes(environment: Environment, wanted?: string): Promise<Shapes> {
    const known = this.#shapes.get(environment.id);
    const isFresh = known && this.now() - known.checkedAt < RECHECK_MS && (!wanted || known.collections.has(wanted));
    const shapes = isFresh ? known : await this.#load(environment);
    return environment.narrowing ? narrowed(shapes, environment.narrowing) : shapes;
  }

  /** One collection, or null; read again before null is returned. */
  async find(environment: Environment, name: string): Promise<CollectionShape | null> {
    return (await this.shapes(environment, name)).collections.get(name) ?? null;
  }

  /** @throws {Problem} collection-unknown */
  async get(environment: Environment, name: string): Promise<CollectionShape> {
    const found = await this.find(environment, name);
    if (!found) throw await this.unknown(environment, name);
    return found;
  }

  /** Why there is no such collection: it may stand on another server, and cannot do what was asked. */
  async unknown(environment: Environment, name: string): Promise<Problem> {
    const outside = (await this.elsewhere.elsewhere(environment)).find((one) => one.name === name)?.outside;
    if (!outside) return unknownCollection(environment, name);
    return new Problem(
      'outside-unsupported',
      `\`${name}\` is the table ${outside.table} on ${outside.server}, which cannot do this. It cannot: ${outside.cannot.join('; ')}.`,
    );
  }

  /** Forgets what is known of an environment's collections. */
  forget(environment: Environment): void {
    this.#loading.delete(environment.id);
    this.#shapes.delete(environment.id);
  }

  /**
   * Creates a collection, or adds and widens fields of it. Another caller may have been faster: what exists stays, and the
   * caller must check against the returned shape again.
   */
  async extend(
    environment: Environment,
    name: string,
    added: Fields,
    widened: readonly string[] = [],
    rules: AccessRules = OWNER_ONLY,
  ): Promise<CollectionShape> {
    for (const [field, definition] of added) {
      const problems = checkField(field, definition);
      if (problems[0]) throw new Problem('invalid-input', problems[0].problem, { fields: problems });
      await this.#demandTarget(environment, name, definition);
    }
    if ((await this.elsewhere.elsewhere(environment)).some((one) => one.name === name)) throw await this.unknown(environment, name);
    await this.change(environment, name, async (connection, before) => {
      const table = environment.db.collection(name);
      if (!before) {
        await createTable(connection, environment.db, name, added);
        for (const [field, of] of added) await addKeys(connection, environment.db, name, field, of);
        await this.#write(connection, environment, name, rules, added);
        return;
      }
      const missing = new Map([...added].filter(([field]) => !before.fields.has(field)));
      const fields = new Map([...before.fields, ...missing]);
      const types = widened.filter((field) => before.fields.get(field)?.type === 'integer');
      if (missing.size > 0) {
        // A field is known once its column has a comment, and by then the feed shows it.
        await addSilentColumns(connection, table, missing);
        await writeTriggers(connection, environment.db, name, fields);
      }
      await modifyColumns(connection, table, [
        ...missing,
        ...types.map((field): [string, Field] => [field, { ...before.fields.get(field), type: 'number' }]),
      ]);
      for (const [field, of] of missing) await addKeys(connection, environment.db, name, field, of);
      await this.#write(connection, environment, name, before.rules, fields);
    });
    return this.get(environment, name);
  }

  async #demandTarget(environment: Environment, collection: string, { type, to }: Field): Promise<void> {
    if (type === 'file') await this.files(environment);
    if (type !== 'reference' || to === 'users' || to === collection) return;
    if (!(await this.find(environment, to as string)))
      throw new Problem('invalid-input', `There is no collection \`${to}\` to refer to.`, {
        fields: [{ path: 'to', problem: `There is no collection \`${to}\`.`, expected: 'an existing collection, or users' }],
      });
  }

  /** Runs one change of a collection's shape at a time, across instances, and clears the cache. */
  async change<T>(environment: Environment, name: string, work: SchemaWork<T>): Promise<T> {
    try {
      return await underSchemaLease(environment, async (connection) => {
        const before = (await readCollections(connection, environment.db)).get(name) ?? null;
        return work(connection, before);
      });
    } finally {
      this.forget(environment);
    }
  }

  /** Writes triggers and metadata after a change of the fields; `drop` names removed fields. */
  async settle(connection: PoolConnection, environment: Environment, shape: CollectionShape, fields: Fields): Promise<void> {
    await writeTriggers(connection, environment.db, shape.name, fields);
    await this.#write(connection, environment, shape.name, shape.rules, fields);
  }

  #write(connection: PoolConnection, { db }: Environment, name: string, rules: AccessRules, fields: Fields): Promise<void> {
    return writeCollection(connection, db, { name, rules, fields, createdAt: new Date(this.now()) });
  }

  /** Rewrites every collection's triggers, and upgrades tables of earlier versions. */
  async repair(environment: Environment): Promise<void> {
    await underSchemaLease(environment, async (connection) => {
      for (const shape of (await readCollections(connection, environment.db)).values()) {
        try {
          await bringUpToDate(connection, shape);
          await writeTriggers(connection, environment.db, shape.name, shape.fields);
        } catch (error) {
          // One that is being dropped, or whose table is still to be copied.
          if (!isGone(error)) throw error;
        }
      }
    });
    this.forget(environment);
  }

  /** Deletes a collection with its records. @throws {Problem} collection-unknown, still-referenced */
  async remove(environment: Environment, name: string): Promise<void> {
    const { collections } = await this.shapes(environment, name);
    if (!collections.has(name)) throw unknownCollection(environment, name);
    const from = [...collections.values()].flatMap((shape) =>
      shape.name === name
        ? []
        : [...shape.fields]
            .filter(([, { type, to }]) => type === 'reference' && to === name)
            .map(([field]) => `\`${field}\` of \`${shape.name}\``),
    );
    if (from.length > 0)
      throw new Problem(
        'still-referenced',
        `${from.join(' and ')} refer${from.length > 1 ? '' : 's'} to \`${name}\`. Drop ${from.length > 1 ? 'those fields' : 'that field'} first.`,
      );
    await this.change(environment, name, (connection) => deleteCollection(connection, environment.db, name));
  }

  async changeRules(environment: Environment, name: string, rules: AccessRules): Promise<CollectionShape> {
    await writeRules(environment.db, name, rules);
    this.forget(environment);
    return this.get(environment, name);
  }

  #load(environment: Environment): Promise<Shapes> {
    const under = this.#loading.get(environment.id);
    if (under) return under.shapes;
    const own = { shapes: this.#loadNow(environment) };
    this.#loading.set(environment.id, own);
    const keep = (shapes: Shapes | null) => {
      if (this.#loading.get(environment.id) !== own) return;
      this.#loading.delete(environment.id);
      if (shapes) this.#shapes.set(environment.id, shapes);
    };
    own.shapes.then(keep, () => keep(null));
    return own.shapes;
  }

  async #loadNow(environment: Environment): Promise<Shapes> {
    const shapes = this.#shapes.get(environment.id);
    const userFields = await this.ports.userFields(environment);
    const mark = `${await readMark(environment.db)} ${JSON.stringify([...userFields])}`;
    if (shapes && shapes.mark === mark) {
      shapes.checkedAt = this.now();
      return shapes;
    }
    const collections = await environment.db.server.withConnection((connection) => readCollections(connection, environment.db));
    return {
      collections,
      users: usersShape(environment.db),
      userFields,
      mark,
      checkedAt: this.now(),
      compiled: new LRUCache({ max: 1_000 }),
      narrowed: new LRUCache({ max: MOST_NARROWED }),
    };
  }
}

/** The shapes with read rules that demand more: every way of reading goes by these. */
function narrowed(shapes: Shapes, narrowing: Readonly<Record<string, string>>): Shapes {
  const key = JSON.stringify(narrowing);
  const known = shapes.narrowed.get(key);
  if (known) return known;
  const collections = new Map(shapes.collections);
  for (const [name, condition] of Object.entries(narrowing)) {
    const shape = collections.get(name);
    if (shape) collections.set(name, { ...shape, rules: { ...shape.rules, read: `(${shape.rules.read}) AND (${condition})` } });
  }
  const own: Shapes = { ...shapes, collections, compiled: new LRUCache({ max: 100 }) };
  shapes.narrowed.set(key, own);
  return own;
}

export const unknownCollection = (environment: Environment, name: string): Problem =>
  new Problem('collection-unknown', `\`${environment.app}/${environment.name}\` has no collection \`${name}\`.`);

/** A field as the API shows it. */
export const presentField = (name: string, field: Field): JsonObject & { name: string; type: FieldType } => ({
  name,
  ...(field as unknown as Record<string, Json>),
  type: field.type,
});
