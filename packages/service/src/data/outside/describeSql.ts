/** What a server of somebody else's shows: its tables and views, their columns, types and indexes. */
import type { SeenTable } from '@orchard/contract';
import { type FieldType, grouped } from '@orchard/core';
import type { OutsideStatements } from './connection.js';

const MARIADB: Record<string, FieldType> = {
  tinyint: 'integer',
  smallint: 'integer',
  mediumint: 'integer',
  int: 'integer',
  bigint: 'integer',
  year: 'integer',
  decimal: 'number',
  float: 'number',
  double: 'number',
  date: 'date',
  datetime: 'time',
  timestamp: 'time',
  char: 'text',
  varchar: 'text',
  tinytext: 'text',
  text: 'text',
  mediumtext: 'text',
  longtext: 'text',
  enum: 'text',
  set: 'text',
  uuid: 'text',
  json: 'object',
};
const POSTGRESQL: Record<string, FieldType> = {
  int2: 'integer',
  int4: 'integer',
  int8: 'integer',
  numeric: 'number',
  float4: 'number',
  float8: 'number',
  bool: 'boolean',
  date: 'date',
  timestamp: 'time',
  timestamptz: 'time',
  text: 'text',
  varchar: 'text',
  bpchar: 'text',
  uuid: 'text',
  citext: 'text',
  json: 'object',
  jsonb: 'object',
};

type Row = {
  tableName: string;
  columnName: string;
  type: string;
  whole: string;
  isView: unknown;
  rowCount: unknown;
  isUnique: unknown;
  isIndexed: unknown;
  isEnum: unknown;
  isJson?: unknown;
};

/** @param only one table, by the name that {@link SeenTable} gives it */
export async function seenTables(on: OutsideStatements, kind: 'mariadb' | 'postgresql', only: string | null = null): Promise<SeenTable[]> {
  const rows = kind === 'mariadb' ? await mariadbRows(on, only) : await postgresqlRows(on, only);
  return [...grouped(rows, ({ tableName }) => tableName)].map(([table, columns]) => {
    const [{ isView, rowCount }] = columns as [Row];
    const counted = Number(rowCount ?? -1);
    return {
      table,
      view: Boolean(isView),
      rows: counted < 0 ? null : counted,
      columns: columns.map((row) => ({
        column: row.columnName,
        type: row.whole,
        as: typeOf(kind, row),
        unique: Boolean(row.isUnique),
        indexed: Boolean(row.isIndexed),
      })),
    };
  });
}

function typeOf(kind: 'mariadb' | 'postgresql', { type, whole, isEnum, isJson }: Row): FieldType | null {
  // MariaDB's JSON is a text with a constraint.
  if (isJson) return 'object';
  if (kind === 'mariadb') return whole === 'tinyint(1)' ? 'boolean' : (MARIADB[type] ?? null);
  return isEnum ? 'text' : (POSTGRESQL[type] ?? null);
}

/**
 * Asks each view of the information schema by itself: the server reads one database, or one table, only
 * when their names stand in the statement as values, and every database of the server otherwise.
 */
async function mariadbRows(on: OutsideStatements, only: string | null): Promise<Row[]> {
  const [{ name } = { name: null }] = await on.rows<{ name: string | null }>('SELECT DATABASE() AS name', []);
  const values = only === null ? [name] : [name, only];
  const here = (schema = 'TABLE_SCHEMA') => `WHERE ${schema} = ?${only === null ? '' : ' AND TABLE_NAME = ?'}`;
  type At = { tableName: string };
  const tables = await on.rows<At & Pick<Row, 'isView' | 'rowCount'>>(
    `SELECT TABLE_NAME AS tableName, TABLE_TYPE <> 'BASE TABLE' AS isView, TABLE_ROWS AS rowCount FROM information_schema.TABLES ${here()}`,
    values,
  );
  const columns = await on.rows<At & Pick<Row, 'columnName' | 'type' | 'whole'>>(
    `SELECT TABLE_NAME AS tableName, COLUMN_NAME AS columnName, DATA_TYPE AS type, COLUMN_TYPE AS whole
     FROM information_schema.COLUMNS ${here()} ORDER BY TABLE_NAME, ORDINAL_POSITION LIMIT 20000`,
    values,
  );
  const parts = await on.rows<At & { indexName: string; columnName: string; position: number; repeats: number }>(
    `SELECT TABLE_NAME AS tableName, INDEX_NAME AS indexName, COLUMN_NAME AS columnName, SEQ_IN_INDEX AS position, NON_UNIQUE AS repeats
     FROM information_schema.STATISTICS ${here()}`,
    values,
  );
  const constraints = await on.rows<At & { columnName: string }>(
    `SELECT TABLE_NAME AS tableName, CONSTRAINT_NAME AS columnName
     FROM information_schema.CHECK_CONSTRAINTS ${here('CONSTRAINT_SCHEMA')} AND CHECK_CLAUSE LIKE 'json_valid(%'`,
    values,
  );
  const key = (...names: string[]) => names.join('\0');
  const byTable = new Map(tables.map((table) => [table.tableName, table]));
  const json = new Set(constraints.map(({ tableName, columnName }) => key(tableName, columnName)));
  const indexes = [...grouped(parts, ({ tableName, indexName }) => key(tableName, indexName)).values()];
  const firsts = indexes.flatMap((index) => index.filter(({ position }) => Number(position) === 1));
  const alone = indexes.filter((index) => index.length === 1).flat();
  const columnKey = ({ tableName, columnName }: At & { columnName: string }) => key(tableName, columnName);
  const indexed = new Set(firsts.map(columnKey));
  const unique = new Set(alone.filter(({ repeats }) => Number(repeats) === 0).map(columnKey));
  return columns.flatMap((column) => {
    const table = byTable.get(column.tableName);
    if (!table) return [];
    const at = columnKey(column);
    return [{ ...table, ...column, isEnum: false, isJson: json.has(at), isIndexed: indexed.has(at), isUnique: unique.has(at) }];
  });
}

/** From the catalogue itself: the standard's views show only what the user owns. */
function postgresqlRows(on: OutsideStatements, only: string | null): Promise<Row[]> {
  return on.rows<Row>(
    `SELECT n.nspname || '.' || r.relname AS "tableName", a.attname AS "columnName", t.typname AS type, format_type(a.atttypid, a.atttypmod) AS whole,
       r.relkind NOT IN ('r', 'p') AS "isView", CASE WHEN r.reltuples >= 0 AND r.relkind IN ('r', 'p', 'm') THEN r.reltuples::bigint END AS "rowCount", t.typtype = 'e' AS "isEnum",
       EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = r.oid AND i.indisvalid AND i.indkey[0] = a.attnum) AS "isIndexed",
       EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = r.oid AND i.indisvalid AND i.indisunique AND i.indpred IS NULL AND i.indnkeyatts = 1 AND i.indkey[0] = a.attnum) AS "isUnique"
     FROM pg_class r JOIN pg_namespace n ON n.oid = r.relnamespace JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum > 0 AND NOT a.attisdropped JOIN pg_type t ON t.oid = a.atttypid
     WHERE r.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg_toast%'
       AND has_table_privilege(r.oid, 'SELECT') AND ($1::text IS NULL OR n.nspname || '.' || r.relname = $1) ORDER BY 1, a.attnum LIMIT 20000`,
    [only],
  );
}

/** What a server says of itself. */
export async function versionOf(on: OutsideStatements): Promise<string> {
  const [row] = await on.rows<{ version: string }>('SELECT version() AS version', []);
  return row?.version ?? 'unknown';
}
