/**
 * The tables of collections, their columns and keys, and the triggers that write the change feed in the transaction of each
 * change. Raw SQL: the shape of these tables is data, which Drizzle does not know.
 */
import { createHash } from 'node:crypto';
import { Problem } from '@orchard/contract';
import { type Field, type Fields, grouped, type ObjectPath, readObjectPath, targetOfField } from '@orchard/core';
import type { PoolConnection, RowDataPacket } from 'mysql2/promise';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import {
  columnSql,
  columnType,
  ID_TYPE,
  imageSql,
  pathColumn,
  pathColumnSql,
  SEARCH_COLUMN,
  searchColumnSql,
  spatialColumn,
  spatialColumnSql,
} from './columns.js';
import type { CollectionShape, DroppedField, Index } from './shape.js';
import { endedRecordTable } from './tables.js';
import { feedTable, unlessCopying } from '../../platform/live/tables.js';

const SYSTEM_COLUMNS = `\`id\` ${ID_TYPE} NOT NULL PRIMARY KEY,
  \`createdAt\` DATETIME(3) NOT NULL, \`updatedAt\` DATETIME(3) NOT NULL, \`version\` INT NOT NULL,
  \`ownerId\` ${ID_TYPE} NULL, \`_by\` VARCHAR(300) NOT NULL DEFAULT '', INDEX \`_owner\` (\`ownerId\`)`;

/**
 * Creates a collection's table; keeps what an interrupted attempt left.
 * @throws {Problem} already-exists, for a name that differs only by case
 */
export async function createTable(connection: PoolConnection, db: EnvironmentDatabase, name: string, fields: Fields): Promise<void> {
  const [taken] = await connection.query<RowDataPacket[]>(
    'SELECT TABLE_NAME AS name FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND LOWER(TABLE_NAME) = LOWER(?)',
    [db.name, name],
  );
  const twin = taken[0]?.name;
  if (twin && twin !== name)
    throw new Problem('already-exists', `The collection \`${name}\` differs from \`${twin}\` only by case. Use \`${twin}\`.`);
  const columns = [...fields].map(([field, of]) => columnSql(field, of));
  await connection.query(
    `CREATE TABLE IF NOT EXISTS ${db.collection(name)} (${SYSTEM_COLUMNS}) DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`,
  );
  if (columns.length > 0)
    await connection.query(
      `ALTER TABLE ${db.collection(name)} ${columns.map((column) => `ADD COLUMN IF NOT EXISTS ${column}`).join(', ')}`,
    );
  await writeTriggers(connection, db, name, fields);
}

/**
 * Writes the triggers for the fields as they are now. While `@orchard_quiet` is 1, updates write no entry; while
 * `@orchard_copying` is 1, nothing does, since the entries are copied as well.
 */
export async function writeTriggers(connection: PoolConnection, db: EnvironmentDatabase, name: string, fields: Fields): Promise<void> {
  const feed = (action: string, row: 'NEW' | 'OLD', version: string, at: string, by: string, before: string, after: string) =>
    `INSERT INTO ${db.of(feedTable)} (collection, recordId, action, version, at, \`by\`, \`before\`, \`after\`)
     VALUES ('${name}', ${row}.id, '${action}', ${version}, ${at}, ${by}, ${before}, ${after})`;
  const [old, fresh] = [imageSql('OLD', fields), imageSql('NEW', fields)];
  const update = feed('update', 'NEW', 'NEW.version', 'NEW.updatedAt', 'NEW._by', old, fresh);
  const triggers = [
    ['INSERT', unlessCopying(feed('create', 'NEW', 'NEW.version', 'NEW.updatedAt', 'NEW._by', 'NULL', fresh))],
    ['UPDATE', unlessCopying(`IF COALESCE(@orchard_quiet, 0) = 0 THEN ${update}; END IF`)],
    [
      'DELETE',
      unlessCopying(`${feed('delete', 'OLD', 'OLD.version + 1', 'UTC_TIMESTAMP(3)', "COALESCE(@orchard_by, '')", old, 'NULL')};
       INSERT INTO ${db.of(endedRecordTable)} (collection, recordId, version) VALUES ('${name}', OLD.id, OLD.version + 1) ON DUPLICATE KEY UPDATE version = VALUES(version)`),
    ],
  ];
  // A trigger's name has at most 64 characters, like a table's, and lives beside the triggers of all other tables.
  const [[{ number }]] = (await connection.query<RowDataPacket[]>('SELECT CRC32(?) AS number', [name])) as unknown as [
    [{ number: number }],
  ];
  for (const [event, body] of triggers) {
    await connection.query(
      `CREATE OR REPLACE TRIGGER ${db.collection(`_${event?.toLowerCase()}_${number}_${name.slice(0, 40)}`)} AFTER ${event} ON ${db.collection(name)} FOR EACH ROW ${body}`,
    );
  }
}

/**
 * Full-text indexes leave out no common words, also when a change of a table writes them anew. Without it, a search for
 * "about" finds nothing.
 */
export async function keepEveryWord(connection: PoolConnection): Promise<void> {
  await connection.query('SET SESSION innodb_ft_enable_stopword = 0');
}

/** The lengths of words that the server's full-text indexes hold. */
export async function indexedLengths(connection: PoolConnection): Promise<{ least: number; most: number }> {
  const [[row]] = (await connection.query<RowDataPacket[]>(
    'SELECT @@innodb_ft_min_token_size AS least, @@innodb_ft_max_token_size AS most',
  )) as unknown as [[{ least: number; most: number }]];
  return { least: Number(row.least), most: Number(row.most) };
}

/** Adds columns whose fields are not known yet: a field is known once its column has a comment. */
export async function addSilentColumns(connection: PoolConnection, table: string, fields: Iterable<[string, Field]>): Promise<void> {
  const columns = [...fields].map(([name, field]) => `ADD COLUMN IF NOT EXISTS ${columnSql(name, field, false)}`);
  await connection.query(`ALTER TABLE ${table} ${columns.join(', ')}`);
}

export async function addColumn(connection: PoolConnection, { table }: CollectionShape, name: string, field: Field): Promise<void> {
  await connection.query(`ALTER TABLE ${table} ADD COLUMN IF NOT EXISTS ${columnSql(name, field)}`);
}

/** Gives columns the types, defaults and comments of their fields. */
export async function modifyColumns(connection: PoolConnection, table: string, fields: Iterable<[string, Field]>): Promise<void> {
  const columns = [...fields].map(([name, field]) => `MODIFY COLUMN ${columnSql(name, field)}`);
  if (columns.length > 0) await connection.query(`ALTER TABLE ${table} ${columns.join(', ')}`);
}

/** Makes a column the column of a field: one that was filled beside it, or one that was set aside. */
export async function putInPlace(
  connection: PoolConnection,
  { table }: CollectionShape,
  column: string,
  name: string,
  field: Field,
): Promise<void> {
  await connection.query(`ALTER TABLE ${table} CHANGE COLUMN \`${column}\` ${columnSql(name, field)}`);
}

/** Sets a field's column aside under a name that no field can have, with its field in its comment. */
export async function setAside(
  connection: PoolConnection,
  { table, fields }: CollectionShape,
  { column, ...comment }: DroppedField,
): Promise<void> {
  const field = fields.get(comment.name) as Field;
  await connection.query(`ALTER TABLE ${table} CHANGE COLUMN \`${comment.name}\` \`${column}\` ${columnType(field)} NULL COMMENT ?`, [
    JSON.stringify(comment),
  ]);
}

/** Drops columns that were set aside. */
export async function dropColumns(connection: PoolConnection, table: string, columns: readonly string[]): Promise<void> {
  await connection.query(`ALTER TABLE ${table} ${columns.map((column) => `DROP COLUMN IF EXISTS \`${column}\``).join(', ')}`);
}

/** Renames a column; indexes with columns of their own over it are dropped, and created again under the new name. */
export async function renameColumn(connection: PoolConnection, shape: CollectionShape, from: string, to: string): Promise<void> {
  const field = shape.fields.get(from) as Field;
  const dependent = shape.indexes.filter((index) => index.fields.some((name) => fieldOf(name) === from) && ownColumns(index).length > 0);
  for (const index of dependent) await dropIndex(connection, shape, index);
  await connection.query(`ALTER TABLE ${shape.table} CHANGE COLUMN \`${from}\` ${columnSql(to, field)}`);
  const renamed = (name: string) => (fieldOf(name) === from ? `${to}${name.slice(from.length)}` : name);
  const fields = new Map([...shape.fields].map(([name, of]) => [renamed(name), of]));
  for (const index of dependent) await addIndex(connection, { ...shape, fields }, { ...index, fields: index.fields.map(renamed) });
}

/** The field that a part of an index is about: itself, or the object that a path goes into. */
export const fieldOf = (name: string): string => readObjectPath(name)?.field ?? name;

/** Columns that exist for an index alone. A path has one for all indexes over it. */
function ownColumns({ kind, fields }: Index): string[] {
  if (kind === 'place') return [spatialColumn(fields[0] as string)];
  if (kind === 'search') return [SEARCH_COLUMN];
  return fields.map(readObjectPath).flatMap((path) => (path ? pathColumn(path) : []));
}

/** Names of foreign keys are unique in the whole database, and have at most 64 characters. */
const foreignKeyName = (collection: string, field: string): string =>
  `_r_${createHash('sha256').update(`${collection}.${field}`).digest('hex').slice(0, 12)}_${field}`.slice(0, 64);

/** The table that a reference leads to. */
export function targetTable(db: EnvironmentDatabase, field: Field): string {
  const target = targetOfField(field) as string;
  return db.collection(target === 'users' ? '_users' : target);
}

/** Foreign and unique keys of a field. */
export async function addKeys(
  connection: PoolConnection,
  db: EnvironmentDatabase,
  collection: string,
  name: string,
  field: Field,
): Promise<void> {
  const table = db.collection(collection);
  if (targetOfField(field))
    await connection.query(
      `ALTER TABLE ${table} ADD CONSTRAINT \`${foreignKeyName(collection, name)}\` FOREIGN KEY IF NOT EXISTS (\`${name}\`) REFERENCES ${targetTable(db, field)} (id)`,
    );
  if (!field.unique) return;
  const unique = `_u_${name.slice(0, 60)}`;
  await connection.query(`ALTER TABLE ${table} ADD UNIQUE INDEX IF NOT EXISTS \`${unique}\` (\`${name}\`)`);
  if (field.type === 'text') await addLookup(connection, table, unique, [prefixOf(name)]);
}

/** Indexes of ours that no list of indexes shows. */
const LOOKUP = '_l_';
const lookupName = (unique: string): string => `${LOOKUP}${unique}`.slice(0, 64);

/** A unique index over a text of any length is a hash that only tells twins: to find a record, it needs another one beside it. */
const addLookup = (connection: PoolConnection, table: string, unique: string, columns: readonly string[]) =>
  connection.query(`ALTER TABLE ${table} ADD INDEX IF NOT EXISTS \`${lookupName(unique)}\` (${columns.join(', ')})`);

/** Drops the foreign key, the unique key and the indexes of a field; `keep` says what the field becomes. */
export async function dropKeys(connection: PoolConnection, shape: CollectionShape, name: string, keep?: Field): Promise<void> {
  const parts: string[] = [];
  const field = shape.fields.get(name);
  if (field && targetOfField(field))
    for (const key of await foreignKeysOf(connection, shape, name)) parts.push(`DROP FOREIGN KEY \`${key}\``);
  const kept = (index: Index) => keep && !(index.kind === 'unique' && index.name.startsWith('_u_'));
  for (const index of shape.indexes) {
    if (!index.fields.some((one) => fieldOf(one) === name) || kept(index)) continue;
    parts.push(`DROP INDEX IF EXISTS \`${index.name}\``);
    if (index.kind === 'unique') parts.push(`DROP INDEX IF EXISTS \`${lookupName(index.name)}\``);
    parts.push(...ownColumns(index).map((column) => `DROP COLUMN IF EXISTS \`${column}\``));
  }
  if (parts.length > 0) await connection.query(`ALTER TABLE ${shape.table} ${[...new Set(parts)].join(', ')}`);
}

async function foreignKeysOf(connection: PoolConnection, { db, name: collection }: CollectionShape, field: string): Promise<string[]> {
  const [keys] = await connection.query<RowDataPacket[]>(
    'SELECT CONSTRAINT_NAME AS name FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND COLUMN_NAME = ? AND REFERENCED_TABLE_NAME IS NOT NULL',
    [db.name, collection, field],
  );
  return keys.map(({ name }) => name as string);
}

/** How many characters of a text an index holds. */
const TEXT_PREFIX = 191;
const prefixOf = (field: string): string => `\`${field}\`(${TEXT_PREFIX})`;

export async function addIndex(connection: PoolConnection, shape: CollectionShape, { name, fields, kind }: Index): Promise<void> {
  const alter = (parts: readonly string[]) => connection.query(`ALTER TABLE ${shape.table} ${parts.join(', ')}`);
  const [first] = fields as [string];
  switch (kind) {
    case 'place':
      await alter([`ADD COLUMN IF NOT EXISTS ${spatialColumnSql(first)}`, `ADD SPATIAL INDEX \`${name}\` (\`${spatialColumn(first)}\`)`]);
      return;
    case 'search':
      await alter([`ADD COLUMN IF NOT EXISTS ${searchColumnSql(fields)}`, `ADD FULLTEXT INDEX \`${name}\` (\`${SEARCH_COLUMN}\`)`]);
      return;
    case 'items':
      await alter([`ADD FULLTEXT INDEX \`${name}\` (\`${first}\`)`]);
      return;
    case 'order':
      await alter([
        ...fields.flatMap((field) => addedPath(readObjectPath(field))),
        `ADD INDEX \`${name}\` (${fields.map((field) => keyPart(shape, field)).join(', ')})`,
      ]);
      return;
    case 'unique':
      await alter([`ADD UNIQUE INDEX \`${name}\` (${fields.map((field) => `\`${field}\``).join(', ')})`]);
      if (fields.some((field) => shape.fields.get(field)?.type === 'text'))
        await addLookup(
          connection,
          shape.table,
          name,
          fields.map((field) => keyPart(shape, field)),
        );
  }
}

const addedPath = (path: ObjectPath | null): string[] => (path ? [`ADD COLUMN IF NOT EXISTS ${pathColumnSql(path)}`] : []);

/** One column of an index; of texts, their beginnings. */
function keyPart({ fields }: CollectionShape, name: string): string {
  const path = readObjectPath(name);
  if (path) return `\`${pathColumn(path)}\``;
  return fields.get(name)?.type === 'text' ? prefixOf(name) : `\`${name}\``;
}

export async function dropIndex(connection: PoolConnection, { table, indexes }: CollectionShape, index: Index): Promise<void> {
  const others = new Set(indexes.filter(({ name }) => name !== index.name).flatMap(ownColumns));
  const parts = [
    `DROP INDEX \`${index.name}\``,
    ...ownColumns(index).flatMap((column) => (others.has(column) ? [] : [`DROP COLUMN IF EXISTS \`${column}\``])),
    ...(index.kind === 'unique' ? [`DROP INDEX IF EXISTS \`${lookupName(index.name)}\``] : []),
  ];
  await connection.query(`ALTER TABLE ${table} ${parts.join(', ')}`);
}

/** Upgrades a table of an earlier version. */
export async function bringUpToDate(connection: PoolConnection, shape: CollectionShape): Promise<void> {
  const { db, name, table } = shape;
  const [columns] = await connection.query<RowDataPacket[]>(
    "SELECT COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND COLUMN_NAME IN ('id', '_by')",
    [db.name, name],
  );
  if (columns.length < 2)
    await connection.query(
      `ALTER TABLE ${table} ADD COLUMN IF NOT EXISTS \`_by\` VARCHAR(300) NOT NULL DEFAULT '', MODIFY COLUMN id ${ID_TYPE} NOT NULL, MODIFY COLUMN ownerId ${ID_TYPE} NULL`,
    );
  await addMissingLookups(connection, shape);
}

async function addMissingLookups(connection: PoolConnection, { db, name: collection, table, fields }: CollectionShape): Promise<void> {
  const [rows] = await connection.query<RowDataPacket[]>(
    "SELECT INDEX_NAME AS name, COLUMN_NAME AS field FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND (INDEX_TYPE = 'HASH' OR INDEX_NAME LIKE '\\_l\\_%') ORDER BY INDEX_NAME, SEQ_IN_INDEX",
    [db.name, collection],
  );
  const byName = grouped(rows as { name: string; field: string }[], ({ name }) => name);
  for (const [unique, parts] of byName) {
    if (unique.startsWith(LOOKUP) || byName.has(lookupName(unique))) continue;
    const columns = parts.map(({ field }) => (fields.get(field)?.type === 'text' ? prefixOf(field) : `\`${field}\``));
    await addLookup(connection, table, unique, columns);
  }
}
