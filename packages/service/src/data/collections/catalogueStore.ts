/**
 * Collections, as rows. Types and keys are read from the tables themselves (a field's type is the comment of its column), so
 * that a table and its description cannot drift apart; constraints that the database does not know are stored with the
 * rules.
 */
import { type AccessRules, FIELD_TYPES, type Field, type Fields, type FieldType, grouped, type OnDelete, own } from '@orchard/core';
import { getTableName } from 'drizzle-orm';
import type { PoolConnection, RowDataPacket } from 'mysql2/promise';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { PATH_COMMENT, SEARCH_COLUMN, SEARCH_COMMENT, spatialColumn } from './columns.js';
import { FILES } from './filesShape.js';
import type { CollectionShape, DroppedField, Index, IndexColumns } from './shape.js';
import { collectionTable, queryTable, sizeTable, viewTable } from './tables.js';

/** The name of the table that says which collections there are. */
export const COLLECTION_ROWS = getTableName(collectionTable);

type Definition = { fields?: Record<string, Omit<Field, 'type'>> };
const known = (type: string | undefined): type is FieldType => (FIELD_TYPES as readonly (string | undefined)[]).includes(type);

/** A text that changes whenever a collection of the environment does. */
export async function readMark(db: EnvironmentDatabase): Promise<string> {
  const [row] = await db.rows<{ mark: string }>(
    `SELECT CONCAT(COUNT(*), ':', COALESCE(SUM(revision), 0)) AS mark FROM ${db.of(collectionTable)}`,
  );
  return row?.mark ?? '';
}

export async function readCollections(connection: PoolConnection, db: EnvironmentDatabase): Promise<Map<string, CollectionShape>> {
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
     WHERE TABLE_SCHEMA = ? AND (TABLE_NAME NOT LIKE '\\_%' OR TABLE_NAME = '${FILES}') AND INDEX_NAME <> 'PRIMARY' AND INDEX_NAME NOT LIKE '\\_l\\_%' ORDER BY TABLE_NAME, INDEX_NAME, SEQ_IN_INDEX`,
    [db.name],
  );
  const byTable = grouped(columns, ({ collection }) => collection as string);
  const keysByTable = grouped(keys, ({ collection }) => collection as string);
  return new Map(rows.map((row) => [row.name as string, shapeOf(db, row, byTable.get(row.name) ?? [], keysByTable.get(row.name) ?? [])]));
}

const jsonOf = <T>(value: unknown): T | null => (typeof value === 'string' ? JSON.parse(value) : (value ?? null)) as T | null;

function shapeOf(db: EnvironmentDatabase, row: RowDataPacket, columns: RowDataPacket[], keys: RowDataPacket[]): CollectionShape {
  const constraints = jsonOf<Definition>(row.definition)?.fields ?? {};
  const columnsOfIndexes = indexColumnsOf(columns);
  const indexes = indexesOf(keys, columnsOfIndexes);
  const unique = new Set(indexes.filter(({ kind, fields }) => kind === 'unique' && fields.length === 1).map(({ fields }) => fields[0]));
  const fields = new Map<string, Field>();
  const dropped: DroppedField[] = [];
  for (const { name, comment } of columns) {
    if (name.startsWith('_x')) dropped.push({ column: name, ...(JSON.parse(comment) as Omit<DroppedField, 'column'>) });
    const [type, ...words] = (comment as string).split(' ');
    if (name.startsWith('_') || !known(type)) continue;
    const { unique: _, ...rest } = own(constraints, name) ?? {};
    fields.set(name, {
      type,
      ...(type === 'reference' ? { to: words[0] as string, onDelete: words[1] as OnDelete } : {}),
      ...(type === 'file' ? { onDelete: words[0] as OnDelete } : {}),
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
    indexed: {
      ...columnsOfIndexes,
      places: new Set([...fields.keys()].filter((name) => columns.some((column) => column.name === spatialColumn(name)))),
      items: new Set(indexes.filter(({ kind }) => kind === 'items').flatMap(({ fields: [list] }) => list as string)),
    },
    createdAt: row.createdAt,
    db,
    table: db.collection(row.name),
  };
}

/** What the comments of columns say of those that exist for an index. */
function indexColumnsOf(columns: RowDataPacket[]): Pick<IndexColumns, 'searched' | 'paths'> {
  const told = columns.map(({ name, comment }) => ({ name: name as string, words: (comment as string).split(' ') }));
  const search = told.find(({ words }) => words[0] === SEARCH_COMMENT);
  return {
    searched: search?.words.slice(1) ?? [],
    paths: new Map(told.filter(({ words }) => words[0] === PATH_COMMENT).map(({ name, words }) => [words[1] as string, name])),
  };
}

function indexesOf(keys: RowDataPacket[], { searched, paths }: Pick<IndexColumns, 'searched' | 'paths'>): Index[] {
  const pathOf = new Map([...paths].map(([path, column]) => [column, path]));
  return [...grouped(keys, (key) => key.name as string)].map(([name, parts]): Index => {
    const columns = parts.map(({ field }) => field as string);
    if (columns[0] === SEARCH_COLUMN) return { name, kind: 'search', fields: [...searched] };
    const fields = columns.map((column) => pathOf.get(column) ?? column.replace(/^_p_/, ''));
    return { name, kind: kindOf(parts[0] as RowDataPacket), fields };
  });
}

function kindOf({ kind, plain }: RowDataPacket): Index['kind'] {
  if (kind === 'SPATIAL') return 'place';
  if (kind === 'FULLTEXT') return 'items';
  return Number(plain) === 0 ? 'unique' : 'order';
}

/** Writes what the table itself does not hold: rules of a new collection, and constraints. */
export async function writeCollection(
  connection: PoolConnection,
  db: EnvironmentDatabase,
  collection: { name: string; rules: AccessRules; fields: Fields; createdAt: Date },
): Promise<void> {
  const definition: Definition = {
    fields: Object.fromEntries(
      [...collection.fields]
        .map(([field, { type: _, ...constraints }]) => [field, constraints])
        .filter(([, constraints]) => Object.keys(constraints as object).length > 0),
    ),
  };
  await connection.query(
    `INSERT INTO ${db.of(collectionTable)} (name, rules, definition, revision, createdAt) VALUES (?, ?, ?, 1, ?)
     ON DUPLICATE KEY UPDATE definition = VALUES(definition), revision = revision + 1`,
    [collection.name, JSON.stringify(collection.rules), JSON.stringify(definition), collection.createdAt],
  );
}

/** Notifies other instances of a changed collection. */
export async function raiseRevision(connection: PoolConnection, db: EnvironmentDatabase, name: string): Promise<void> {
  await connection.query(`UPDATE ${db.of(collectionTable)} SET revision = revision + 1 WHERE name = ?`, [name]);
}

export async function writeRules(db: EnvironmentDatabase, name: string, rules: AccessRules): Promise<void> {
  await db.run(`UPDATE ${db.of(collectionTable)} SET rules = ?, revision = revision + 1 WHERE name = ?`, [JSON.stringify(rules), name]);
}

/** Deletes a collection's metadata and records. */
export async function deleteCollection(connection: PoolConnection, db: EnvironmentDatabase, name: string): Promise<void> {
  // The row goes first: a table without one is unknown, and is created again with the name.
  await connection.query(`DELETE FROM ${db.of(collectionTable)} WHERE name = ?`, [name]);
  for (const table of [viewTable, queryTable, sizeTable])
    await connection.query(`DELETE FROM ${db.of(table)} WHERE collection = ?`, [name]);
  await connection.query(`DROP TABLE IF EXISTS ${db.collection(name)}`);
}

/** Above this, counting would read too much; MariaDB's estimate is used. */
const COUNTED_UP_TO = 100_000;

/** Numbers of records and bytes of collections. */
export async function readSizes(db: EnvironmentDatabase, names: string[]): Promise<Map<string, { records: number; bytes: number }>> {
  const estimates = await db.rows<{ name: string; records: number; bytes: number }>(
    'SELECT TABLE_NAME AS name, TABLE_ROWS AS records, DATA_LENGTH + INDEX_LENGTH AS bytes FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?',
    [db.name],
  );
  const estimated = new Map(estimates.map((one) => [one.name, one]));
  const small = names.filter((name) => Number(estimated.get(name)?.records ?? 0) <= COUNTED_UP_TO);
  const counted = small.length
    ? await db.runRows<{ name: string; n: number }>(
        small.map((name) => `SELECT '${name}' AS name, COUNT(*) AS n FROM ${db.collection(name)}`).join(' UNION ALL '),
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
