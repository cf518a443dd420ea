/**
 * The collections of each environment: their fields, types and rules. A field's type is kept as the comment of its
 * column, so a table and what is known of it cannot drift apart.
 */
import { Problem } from '@orchard/contract';
import { type AccessRules, FIELD_TYPES, type FieldType, OWNER_ONLY } from '@orchard/core';
import { LRUCache } from 'lru-cache';
import type { PoolConnection, RowDataPacket } from 'mysql2/promise';
import type { Database } from '../database/connection.js';
import type { Environment } from '../http/call.js';
import { prepareStatements, type RecordStatements } from './statements.js';

export type CollectionShape = {
  name: string;
  fields: ReadonlyMap<string, FieldType>;
  rules: AccessRules;
  createdAt: Date;
  statements: RecordStatements;
};
type Shapes = { collections: Map<string, CollectionShape>; mark: string; checkedAt: number };

/** How long another instance's changes may go unnoticed; an unknown name is always looked up afresh. */
const RECHECK_MS = 2_000;
const COLUMN_TYPES: Record<FieldType, string> = {
  text: 'MEDIUMTEXT',
  integer: 'BIGINT',
  number: 'DOUBLE',
  boolean: 'BOOLEAN',
  place: 'POINT',
  list: 'JSON',
  object: 'JSON',
};
const SYSTEM_COLUMNS = `\`id\` VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  \`createdAt\` DATETIME(3) NOT NULL, \`updatedAt\` DATETIME(3) NOT NULL, \`version\` INT NOT NULL,
  \`ownerId\` CHAR(36) CHARACTER SET ascii COLLATE ascii_bin NULL, INDEX (\`ownerId\`)`;

const known = (type: string): type is FieldType => (FIELD_TYPES as readonly string[]).includes(type);
const column = (name: string, type: FieldType) => `\`${name}\` ${COLUMN_TYPES[type]} NULL COMMENT '${type}'`;

export class Catalogue {
  readonly #shapes = new LRUCache<string, Shapes>({ max: 2_000 });

  constructor(
    private readonly database: Database,
    private readonly now: () => number,
  ) {}

  /** Every collection of the environment. */
  async all(environment: Environment): Promise<CollectionShape[]> {
    return [...(await this.#load(environment)).collections.values()];
  }

  /** One collection, or null; looked up afresh before null is answered. */
  async find(environment: Environment, name: string): Promise<CollectionShape | null> {
    const shapes = this.#shapes.get(environment.id);
    if (shapes && this.now() - shapes.checkedAt < RECHECK_MS) {
      const found = shapes.collections.get(name);
      if (found) return found;
    }
    return (await this.#load(environment)).collections.get(name) ?? null;
  }

  /** @throws {Problem} collection-unknown */
  async get(environment: Environment, name: string): Promise<CollectionShape> {
    const found = await this.find(environment, name);
    if (!found) throw new Problem('collection-unknown', `\`${environment.app}/${environment.name}\` has no collection \`${name}\`.`);
    return found;
  }

  /**
   * Makes a collection, or adds and widens fields of it. Another caller may have been quicker: what exists stays, and
   * the shape that is answered has to be checked against again.
   */
  async extend(
    environment: Environment,
    name: string,
    added: ReadonlyMap<string, FieldType>,
    widened: readonly string[] = [],
    rules: AccessRules = OWNER_ONLY,
  ): Promise<CollectionShape> {
    await this.database.withLock(`${environment.database}:schema`, async (connection) => {
      const table = `\`${environment.database}\`.\`${name}\``;
      const before = (await this.#read(connection, environment)).collections.get(name);
      if (!before) await createTable(connection, environment.database, name);
      const missing = [...added].filter(([field]) => !before?.fields.has(field));
      if (missing.length > 0) {
        await connection.query(
          `ALTER TABLE ${table} ${missing.map(([field, type]) => `ADD COLUMN IF NOT EXISTS ${column(field, type)}`).join(', ')}`,
        );
      }
      for (const field of widened) {
        if (before?.fields.get(field) === 'integer')
          await connection.query(`ALTER TABLE ${table} MODIFY COLUMN ${column(field, 'number')}`);
      }
      await connection.query(
        `INSERT INTO \`${environment.database}\`._collections (name, rules, revision, createdAt) VALUES (?, ?, 1, ?) ON DUPLICATE KEY UPDATE revision = revision + 1`,
        [name, JSON.stringify(rules), new Date(this.now())],
      );
    });
    this.#shapes.delete(environment.id);
    return this.get(environment, name);
  }

  async changeRules(environment: Environment, name: string, rules: AccessRules): Promise<CollectionShape> {
    await this.database.run(`UPDATE \`${environment.database}\`._collections SET rules = ?, revision = revision + 1 WHERE name = ?`, [
      JSON.stringify(rules),
      name,
    ]);
    this.#shapes.delete(environment.id);
    return this.get(environment, name);
  }

  /** Numbers of records; MariaDB's own estimate where a count would read over 100,000 rows. */
  async counts(environment: Environment, names: string[]): Promise<Map<string, number>> {
    const counts = new Map<string, number>();
    const estimates = await this.database.rows<{ name: string; records: number }>(
      'SELECT TABLE_NAME AS name, TABLE_ROWS AS records FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?',
      [environment.database],
    );
    const estimated = new Map(estimates.map(({ name, records }) => [name, Number(records)]));
    for (const name of names) {
      const guess = estimated.get(name) ?? 0;
      if (guess > 100_000) counts.set(name, guess);
      else
        counts.set(
          name,
          Number((await this.database.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM \`${environment.database}\`.\`${name}\``))[0]?.n ?? 0),
        );
    }
    return counts;
  }

  async #load(environment: Environment): Promise<Shapes> {
    const shapes = this.#shapes.get(environment.id);
    const [row] = await this.database.rows<{ mark: string }>(
      `SELECT CONCAT(COUNT(*), ':', COALESCE(SUM(revision), 0)) AS mark FROM \`${environment.database}\`._collections`,
    );
    if (shapes && shapes.mark === row?.mark) {
      shapes.checkedAt = this.now();
      return shapes;
    }
    const loaded = await this.database.withConnection((connection) => this.#read(connection, environment));
    const fresh = { collections: loaded.collections, mark: row?.mark ?? '', checkedAt: this.now() };
    this.#shapes.set(environment.id, fresh);
    return fresh;
  }

  async #read(connection: PoolConnection, environment: Environment): Promise<{ collections: Map<string, CollectionShape> }> {
    const [rows] = await connection.query<RowDataPacket[]>(
      `SELECT name, rules, createdAt FROM \`${environment.database}\`._collections ORDER BY name`,
    );
    const [columns] = await connection.query<RowDataPacket[]>(
      `SELECT TABLE_NAME AS collection, COLUMN_NAME AS field, COLUMN_COMMENT AS type FROM information_schema.COLUMNS
       WHERE TABLE_SCHEMA = ? AND COLUMN_COMMENT <> '' ORDER BY TABLE_NAME, ORDINAL_POSITION`,
      [environment.database],
    );
    const collections = new Map<string, CollectionShape>();
    for (const row of rows) {
      const fields = new Map<string, FieldType>();
      for (const { collection, field, type } of columns) if (collection === row.name && known(type)) fields.set(field, type);
      const rules = typeof row.rules === 'string' ? JSON.parse(row.rules) : row.rules;
      collections.set(row.name, {
        name: row.name,
        fields,
        rules,
        createdAt: row.createdAt,
        statements: prepareStatements(environment.database, row.name, fields),
      });
    }
    return { collections };
  }
}

/** A table and its triggers, which write the change feed in the transaction of the change itself. */
async function createTable(connection: PoolConnection, database: string, name: string): Promise<void> {
  const [taken] = await connection.query<RowDataPacket[]>(
    'SELECT TABLE_NAME AS name FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND LOWER(TABLE_NAME) = LOWER(?)',
    [database, name],
  );
  const twin = taken[0]?.name;
  if (twin && twin !== name)
    throw new Problem('already-exists', `The collection \`${name}\` differs from \`${twin}\` only by case. Use \`${twin}\`.`);
  await connection.query(
    `CREATE TABLE IF NOT EXISTS \`${database}\`.\`${name}\` (${SYSTEM_COLUMNS}) DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`,
  );
  const feed = (action: string, row: string, version: string) =>
    `INSERT INTO \`${database}\`._changes (collection, recordId, action, version, at) VALUES ('${name}', ${row}.id, '${action}', ${version}, UTC_TIMESTAMP(3))`;
  const triggers = [
    ['INSERT', feed('create', 'NEW', 'NEW.version')],
    ['UPDATE', feed('update', 'NEW', 'NEW.version')],
    ['DELETE', feed('delete', 'OLD', 'OLD.version + 1')],
  ];
  // A trigger's name has at most 64 letters, like a table's, and lives beside the triggers of all other tables.
  const [[{ number }]] = (await connection.query<RowDataPacket[]>('SELECT CRC32(?) AS number', [name])) as unknown as [
    [{ number: number }],
  ];
  for (const [event, body] of triggers) {
    await connection.query(
      `CREATE OR REPLACE TRIGGER \`${database}\`.\`_${event?.toLowerCase()}_${number}_${name.slice(0, 40)}\` AFTER ${event} ON \`${database}\`.\`${name}\` FOR EACH ROW ${body}`,
    );
  }
}
