/**
 * The collections of each environment: their fields, constraints, indexes and rules. Types and keys are read from the
 * tables themselves (a field's type is the comment of its column), so a table and what is known of it cannot drift
 * apart; constraints that the database does not know are kept beside the rules.
 */
import { createHash } from 'node:crypto';
import { Problem } from '@orchard/contract';
import {
  type AccessRules,
  checkField,
  FIELD_TYPES,
  type Field,
  type Fields,
  type FieldType,
  type Json,
  type JsonObject,
  OWNER_ONLY,
  type OnDelete,
  grouped,
  own,
} from '@orchard/core';
import { LRUCache } from 'lru-cache';
import type { PoolConnection, RowDataPacket } from 'mysql2/promise';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import type { Environment } from '../../platform/call.js';
import { columnSql, ID_TYPE, spatialColumn } from './columns.js';
import { createTable, writeTriggers } from './collectionTable.js';
import { type CollectionShape, type DroppedField, type Index, usersShape } from './shape.js';
import { collectionTable, queryTable, sizeTable, viewTable } from './tables.js';

/** All collections of an environment at one moment, and what was worked out from them. */
export type Shapes = {
  collections: ReadonlyMap<string, CollectionShape>;
  users: CollectionShape;
  mark: string;
  checkedAt: number;
  /** Filters, rules and lists compiled for these shapes. */
  compiled: LRUCache<string, object>;
};

/** How long another instance's changes may go unnoticed; an unknown name is always looked up afresh. */
const RECHECK_MS = 2_000;
/** A change of a large table may take its time; others of the environment are told to come back meanwhile. */
const CHANGE_S = 600;

/** One change of an environment's collections at a time, on all instances. @throws {Problem} busy */
const underSchemaLease = <T>({ db }: Environment, work: (connection: PoolConnection) => Promise<T>): Promise<T> =>
  db.withLease('schema', () => db.server.withConnection(work, CHANGE_S));

const known = (type: string | undefined): type is FieldType => (FIELD_TYPES as readonly (string | undefined)[]).includes(type);
type Definition = { fields?: Record<string, Omit<Field, 'type'>> };
type SchemaWork<T> = (connection: PoolConnection, before: CollectionShape | null) => Promise<T>;

export class Catalogue {
  readonly #shapes = new LRUCache<string, Shapes>({ max: 2_000 });
  /** Loads on their way, which many may wait for; one that was overtaken by a change is not kept. */
  readonly #loading = new Map<string, { shapes: Promise<Shapes> }>();

  constructor(private readonly now: () => number) {}

  /** Every collection of the environment. */
  async all(environment: Environment): Promise<CollectionShape[]> {
    return [...(await this.#load(environment)).collections.values()];
  }

  /** All shapes of the environment, at most 2 s old; looked up afresh when it has no `wanted` collection. */
  async shapes(environment: Environment, wanted?: string): Promise<Shapes> {
    const shapes = this.#shapes.get(environment.id);
    if (shapes && this.now() - shapes.checkedAt < RECHECK_MS && (!wanted || shapes.collections.has(wanted))) return shapes;
    return this.#load(environment);
  }

  /** One collection, or null; looked up afresh before null is answered. */
  async find(environment: Environment, name: string): Promise<CollectionShape | null> {
    return (await this.shapes(environment, name)).collections.get(name) ?? null;
  }

  /** @throws {Problem} collection-unknown */
  async get(environment: Environment, name: string): Promise<CollectionShape> {
    const found = await this.find(environment, name);
    if (!found) throw unknownCollection(environment, name);
    return found;
  }

  /** Forgets what is known of an environment's collections. */
  forget(environment: Environment): void {
    this.#loading.delete(environment.id);
    this.#shapes.delete(environment.id);
  }

  /**
   * Makes a collection, or adds and widens fields of it. Another caller may have been quicker: what exists stays, and
   * the shape that is answered has to be checked against again.
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
    await this.change(environment, name, async (connection, before) => {
      const table = environment.db.collection(name);
      if (!before) {
        await createTable(connection, environment.db, name, added);
        for (const [field, of] of added) await this.addKeys(connection, environment, name, field, of);
        await this.#write(connection, environment, name, rules, added);
        return;
      }
      const missing = new Map([...added].filter(([field]) => !before.fields.has(field)));
      const fields = new Map([...before.fields, ...missing]);
      const types = widened.filter((field) => before.fields.get(field)?.type === 'integer');
      if (missing.size > 0) {
        // The field is known once its column has a comment, and by then the feed shows it.
        await connection.query(
          `ALTER TABLE ${table} ${[...missing].map(([field, of]) => `ADD COLUMN IF NOT EXISTS ${columnSql(field, of, false)}`).join(', ')}`,
        );
        await writeTriggers(connection, environment.db, name, fields);
      }
      const modified: [string, Field][] = [
        ...missing,
        ...types.map((field): [string, Field] => [field, { ...before.fields.get(field), type: 'number' }]),
      ];
      if (modified.length > 0)
        await connection.query(`ALTER TABLE ${table} ${modified.map(([field, of]) => `MODIFY COLUMN ${columnSql(field, of)}`).join(', ')}`);
      for (const [field, of] of missing) await this.addKeys(connection, environment, name, field, of);
      await this.#write(connection, environment, name, before.rules, fields);
    });
    return this.get(environment, name);
  }

  /** Foreign and unique keys of a field. */
  async addKeys(connection: PoolConnection, environment: Environment, collection: string, name: string, field: Field): Promise<void> {
    const table = environment.db.collection(collection);
    if (field.type === 'reference') {
      const target = field.to === 'users' ? '_users' : (field.to as string);
      await connection.query(
        `ALTER TABLE ${table} ADD CONSTRAINT \`${foreignKeyName(collection, name)}\` FOREIGN KEY IF NOT EXISTS (\`${name}\`) REFERENCES ${environment.db.collection(target)} (id)`,
      );
    }
    if (field.unique)
      await connection.query(`ALTER TABLE ${table} ADD UNIQUE INDEX IF NOT EXISTS \`_u_${name.slice(0, 60)}\` (\`${name}\`)`);
  }

  async #demandTarget(environment: Environment, collection: string, { type, to }: Field): Promise<void> {
    if (type !== 'reference' || to === 'users' || to === collection) return;
    if (!(await this.find(environment, to as string)))
      throw new Problem('invalid-input', `There is no collection \`${to}\` to refer to.`, {
        fields: [{ path: 'to', problem: `There is no collection \`${to}\`.`, expected: 'a collection that exists, or users' }],
      });
  }

  /** Runs one change of a collection's shape at a time, across instances, and forgets what was known. */
  async change<T>(environment: Environment, name: string, work: SchemaWork<T>): Promise<T> {
    try {
      return await underSchemaLease(environment, async (connection) => {
        const before = (await this.#read(connection, environment)).get(name) ?? null;
        return work(connection, before);
      });
    } finally {
      this.forget(environment);
    }
  }

  /** Writes triggers and metadata after a change of the fields; `drop` names fields that are none any more. */
  async settle(connection: PoolConnection, environment: Environment, shape: CollectionShape, fields: Fields): Promise<void> {
    await writeTriggers(connection, environment.db, shape.name, fields);
    await this.#write(connection, environment, shape.name, shape.rules, fields);
  }

  async #write(connection: PoolConnection, environment: Environment, name: string, rules: AccessRules, fields: Fields): Promise<void> {
    const definition: Definition = {
      fields: Object.fromEntries(
        [...fields]
          .map(([field, { type: _, ...constraints }]) => [field, constraints])
          .filter(([, constraints]) => Object.keys(constraints as object).length > 0),
      ),
    };
    await connection.query(
      `INSERT INTO ${environment.db.of(collectionTable)} (name, rules, definition, revision, createdAt) VALUES (?, ?, ?, 1, ?)
       ON DUPLICATE KEY UPDATE definition = VALUES(definition), revision = revision + 1`,
      [name, JSON.stringify(rules), JSON.stringify(definition), new Date(this.now())],
    );
  }

  /** Writes every collection's triggers anew, and brings tables of earlier versions to the present form. */
  async repair(environment: Environment): Promise<void> {
    await underSchemaLease(environment, async (connection) => {
      for (const shape of (await this.#read(connection, environment)).values()) {
        const [columns] = await connection.query<RowDataPacket[]>(
          "SELECT COLLATION_NAME AS collation FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND COLUMN_NAME IN ('id', '_by') ORDER BY COLUMN_NAME",
          [environment.db.name, shape.name],
        );
        if (columns.length < 2)
          await connection.query(
            `ALTER TABLE ${shape.table} ADD COLUMN IF NOT EXISTS \`_by\` VARCHAR(300) NOT NULL DEFAULT '', MODIFY COLUMN id ${ID_TYPE} NOT NULL, MODIFY COLUMN ownerId ${ID_TYPE} NULL`,
          );
        await writeTriggers(connection, environment.db, shape.name, shape.fields);
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
    await this.change(environment, name, async (connection, before) => {
      // The row goes first: a table without one is not known, and made anew with the name.
      for (const [table, column] of [
        [collectionTable, 'name'],
        [viewTable, 'collection'],
        [queryTable, 'collection'],
        [sizeTable, 'collection'],
      ] as const)
        await connection.query(`DELETE FROM ${environment.db.of(table)} WHERE ${column} = ?`, [name]);
      if (before) await connection.query(`DROP TABLE IF EXISTS ${before.table}`);
    });
  }

  async changeRules(environment: Environment, name: string, rules: AccessRules): Promise<CollectionShape> {
    await environment.db.run(`UPDATE ${environment.db.of(collectionTable)} SET rules = ?, revision = revision + 1 WHERE name = ?`, [
      JSON.stringify(rules),
      name,
    ]);
    this.forget(environment);
    return this.get(environment, name);
  }

  /** Numbers of records and bytes; MariaDB's own estimate where a count would read over 100,000 rows. */
  async sizes(environment: Environment, names: string[]): Promise<Map<string, { records: number; bytes: number }>> {
    const estimates = await environment.db.rows<{ name: string; records: number; bytes: number }>(
      'SELECT TABLE_NAME AS name, TABLE_ROWS AS records, DATA_LENGTH + INDEX_LENGTH AS bytes FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?',
      [environment.db.name],
    );
    const estimated = new Map(estimates.map((one) => [one.name, one]));
    const small = names.filter((name) => Number(estimated.get(name)?.records ?? 0) <= 100_000);
    const counted = small.length
      ? await environment.db.runRows<{ name: string; n: number }>(
          small.map((name) => `SELECT '${name}' AS name, COUNT(*) AS n FROM ${environment.db.collection(name)}`).join(' UNION ALL '),
        )
      : [];
    const exact = new Map(counted.map(({ name, n }) => [name, Number(n)]));
    return new Map(
      names.map((name) => [
        name,
        { records: exact.get(name) ?? Number(estimated.get(name)?.records ?? 0), bytes: Number(estimated.get(name)?.bytes ?? 0) },
      ]),
    );
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
    const [row] = await environment.db.rows<{ mark: string }>(
      `SELECT CONCAT(COUNT(*), ':', COALESCE(SUM(revision), 0)) AS mark FROM ${environment.db.of(collectionTable)}`,
    );
    if (shapes && shapes.mark === row?.mark) {
      shapes.checkedAt = this.now();
      return shapes;
    }
    const collections = await environment.db.server.withConnection((connection) => this.#read(connection, environment));
    return {
      collections,
      users: usersShape(environment.db),
      mark: row?.mark ?? '',
      checkedAt: this.now(),
      compiled: new LRUCache({ max: 1_000 }),
    };
  }

  async #read(connection: PoolConnection, environment: Environment): Promise<Map<string, CollectionShape>> {
    const { db } = environment;
    const [rows] = await connection.query<RowDataPacket[]>(
      `SELECT name, rules, definition, createdAt FROM ${db.of(collectionTable)} ORDER BY name`,
    );
    const [columns] = await connection.query<RowDataPacket[]>(
      `SELECT TABLE_NAME AS collection, COLUMN_NAME AS name, COLUMN_COMMENT AS comment FROM information_schema.COLUMNS
       WHERE TABLE_SCHEMA = ? AND (COLUMN_COMMENT <> '' OR COLUMN_NAME LIKE '\\_p\\_%') ORDER BY TABLE_NAME, ORDINAL_POSITION`,
      [db.name],
    );
    const [keys] = await connection.query<RowDataPacket[]>(
      `SELECT TABLE_NAME AS collection, INDEX_NAME AS name, COLUMN_NAME AS field, NON_UNIQUE AS plain, INDEX_TYPE AS kind FROM information_schema.STATISTICS
       WHERE TABLE_SCHEMA = ? AND TABLE_NAME NOT LIKE '\\_%' AND INDEX_NAME <> 'PRIMARY' ORDER BY TABLE_NAME, INDEX_NAME, SEQ_IN_INDEX`,
      [db.name],
    );
    const byTable = grouped(columns, ({ collection }) => collection as string);
    const keysByTable = grouped(keys, ({ collection }) => collection as string);
    return new Map(rows.map((row) => [row.name as string, shapeOf(db, row, byTable.get(row.name) ?? [], keysByTable.get(row.name) ?? [])]));
  }
}

/** Names of foreign keys are unique in the whole database, and have at most 64 letters. */
const foreignKeyName = (collection: string, field: string): string =>
  `_r_${createHash('sha256').update(`${collection}.${field}`).digest('hex').slice(0, 12)}_${field}`.slice(0, 64);

const jsonOf = <T>(value: unknown): T | null => (typeof value === 'string' ? JSON.parse(value) : (value ?? null)) as T | null;

function shapeOf(db: EnvironmentDatabase, row: RowDataPacket, columns: RowDataPacket[], keys: RowDataPacket[]): CollectionShape {
  const constraints = jsonOf<Definition>(row.definition)?.fields ?? {};
  const indexes = indexesOf(keys);
  const unique = new Set(indexes.filter(({ kind, fields }) => kind === 'unique' && fields.length === 1).map(({ fields }) => fields[0]));
  const fields = new Map<string, Field>();
  const dropped: DroppedField[] = [];
  for (const { name, comment } of columns) {
    if (name.startsWith('_x')) dropped.push({ column: name, ...(JSON.parse(comment) as Omit<DroppedField, 'column'>) });
    const [type, to, onDelete] = (comment as string).split(' ');
    if (name.startsWith('_') || !known(type)) continue;
    const { unique: _, ...rest } = own(constraints, name) ?? {};
    fields.set(name, {
      type,
      ...(type === 'reference' ? { to: to as string, onDelete: onDelete as OnDelete } : {}),
      ...rest,
      ...(unique.has(name) ? { unique: true } : {}),
    });
  }
  return {
    name: row.name,
    fields,
    rules: jsonOf<AccessRules>(row.rules) as AccessRules,
    indexes,
    dropped,
    placesIndexed: new Set([...fields.keys()].filter((name) => columns.some((column) => column.name === spatialColumn(name)))),
    createdAt: row.createdAt,
    db,
    table: db.collection(row.name),
  };
}

function indexesOf(keys: RowDataPacket[]): Index[] {
  const indexes: Index[] = [];
  for (const [name, parts] of grouped(keys, (key) => key.name as string)) {
    const kind = parts[0]?.kind === 'SPATIAL' ? 'place' : Number(parts[0]?.plain) === 0 ? 'unique' : 'order';
    indexes.push({ name, kind, fields: parts.map(({ field }) => (field as string).replace(/^_p_/, '')) });
  }
  return indexes;
}

export const unknownCollection = (environment: Environment, name: string): Problem =>
  new Problem('collection-unknown', `\`${environment.app}/${environment.name}\` has no collection \`${name}\`.`);

/** A field as the API shows it. */
export const presentField = (name: string, field: Field): JsonObject & { name: string; type: FieldType } => ({
  name,
  ...(field as unknown as Record<string, Json>),
  type: field.type,
});
