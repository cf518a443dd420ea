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

function mariadbRows(on: OutsideStatements, only: string | null): Promise<Row[]> {
  return on.rows<Row>(
    `SELECT c.TABLE_NAME AS tableName, c.COLUMN_NAME AS columnName, c.DATA_TYPE AS type, c.COLUMN_TYPE AS whole, t.TABLE_TYPE <> 'BASE TABLE' AS isView,
       t.TABLE_ROWS AS rowCount, 0 AS isEnum,
       EXISTS (SELECT 1 FROM information_schema.CHECK_CONSTRAINTS k WHERE k.CONSTRAINT_SCHEMA = c.TABLE_SCHEMA AND k.TABLE_NAME = c.TABLE_NAME AND k.CONSTRAINT_NAME = c.COLUMN_NAME AND k.CHECK_CLAUSE LIKE 'json_valid(%') AS isJson,
       EXISTS (SELECT 1 FROM information_schema.STATISTICS s WHERE s.TABLE_SCHEMA = c.TABLE_SCHEMA AND s.TABLE_NAME = c.TABLE_NAME AND s.COLUMN_NAME = c.COLUMN_NAME AND s.SEQ_IN_INDEX = 1) AS isIndexed,
       EXISTS (SELECT 1 FROM information_schema.STATISTICS s WHERE s.TABLE_SCHEMA = c.TABLE_SCHEMA AND s.TABLE_NAME = c.TABLE_NAME AND s.COLUMN_NAME = c.COLUMN_NAME AND s.NON_UNIQUE = 0
         AND (SELECT COUNT(*) FROM information_schema.STATISTICS w WHERE w.TABLE_SCHEMA = s.TABLE_SCHEMA AND w.TABLE_NAME = s.TABLE_NAME AND w.INDEX_NAME = s.INDEX_NAME) = 1) AS isUnique
     FROM information_schema.COLUMNS c JOIN information_schema.TABLES t ON t.TABLE_SCHEMA = c.TABLE_SCHEMA AND t.TABLE_NAME = c.TABLE_NAME
     WHERE c.TABLE_SCHEMA = DATABASE() AND (? IS NULL OR c.TABLE_NAME = ?) ORDER BY c.TABLE_NAME, c.ORDINAL_POSITION LIMIT 20000`,
    [only, only],
  );
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
