/** How MariaDB stores each type of field: its column, conversion in both directions, and its image in the feed. */
import { createHash } from 'node:crypto';
import {
  type Field,
  type FieldType,
  type Fields,
  INDEXED_TEXT,
  insideSql,
  type Json,
  type JsonObject,
  type ObjectPath,
  own,
  writeObjectPath,
} from '@orchard/core';

/** Ids have the collation of texts, so that they compare with texts, and with the ids of users, as they are. */
export const ID_TYPE = 'VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin';

const COLUMN_TYPES: Record<FieldType, string> = {
  text: 'MEDIUMTEXT',
  integer: 'BIGINT',
  number: 'DOUBLE',
  boolean: 'BOOLEAN',
  date: 'DATE',
  time: 'DATETIME(3)',
  choice: 'VARCHAR(100)',
  place: 'POINT',
  reference: ID_TYPE,
  file: ID_TYPE,
  list: 'JSON',
  object: 'JSON',
};

/** The column's type in SQL. */
export const columnType = ({ type }: Field): string => COLUMN_TYPES[type];

/** What a column's comment says of its field, so that the two cannot drift apart. */
export const columnComment = ({ type, to, onDelete }: Field): string =>
  type === 'reference' ? `reference ${to} ${onDelete ?? 'restrict'}` : type === 'file' ? `file ${onDelete ?? 'restrict'}` : type;

/** `\`name\` TYPE NULL COMMENT '…'`; without the comment the field is not known yet. */
export const columnSql = (name: string, field: Field, known = true): string =>
  `\`${name}\` ${columnType(field)} NULL${known ? ` COMMENT '${columnComment(field)}'` : ''}`;

/** A point off the globe stands for NULL, which a spatial index forbids. */
const NOWHERE = 'POINT(1000, 1000)';
/** The column of a spatial index. */
export const spatialColumn = (field: string): string => `_p_${field}`;
export const spatialColumnSql = (field: string): string =>
  `\`${spatialColumn(field)}\` POINT NOT NULL DEFAULT (COALESCE(\`${field}\`, ${NOWHERE}))`;
/** Brings the indexed column after a place that was changed. */
export const spatialUpdateSql = (field: string, to = '', from = ''): string =>
  `${to}\`${spatialColumn(field)}\` = COALESCE(${from}\`${field}\`, ${NOWHERE})`;

/** The column that `search` looks into: the texts of its fields one after another, compared without case and accents. */
export const SEARCH_COLUMN = '_search';
export const searchColumnSql = (fields: readonly string[]): string =>
  `\`${SEARCH_COLUMN}\` LONGTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_uca1400_ai_ci GENERATED ALWAYS AS (CONCAT_WS('\\n', ${fields.map((field) => `\`${field}\``).join(', ')})) STORED COMMENT '${SEARCH_COMMENT} ${fields.join(' ')}'`;
export const SEARCH_COMMENT = 'search';

const PATH_TYPES = {
  text: `VARCHAR(${INDEXED_TEXT}) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`,
  number: 'DOUBLE',
  boolean: 'BOOLEAN',
} as const;
export const PATH_COMMENT = 'path';
/** The column of what lies inside an object, for an index. */
export const pathColumn = (path: ObjectPath): string =>
  `_o${createHash('sha256').update(writeObjectPath(path)).digest('hex').slice(0, 16)}`;
export function pathColumnSql(path: ObjectPath): string {
  const value = insideSql(`\`${path.field}\``, path.keys, path.kind);
  // As it is compared with short texts alone, the beginning is all that counts, and the index answers without the document.
  const kept = path.kind === 'text' ? `LEFT(${value}, ${INDEXED_TEXT})` : value;
  return `\`${pathColumn(path)}\` ${PATH_TYPES[path.kind]} GENERATED ALWAYS AS (${kept}) VIRTUAL COMMENT '${PATH_COMMENT} ${writeObjectPath(path)}'`;
}

/** A column's value as the API returns it. */
export function presentValue(type: FieldType, value: unknown): Json {
  if (value === null || value === undefined) return null;
  switch (type) {
    case 'boolean':
      return Boolean(value);
    case 'time':
      return (value as Date).toISOString();
    case 'place': {
      const { x, y } = value as { x: number; y: number };
      return { type: 'Point', coordinates: [x, y] };
    }
    case 'list':
    case 'object':
      return (typeof value === 'string' ? JSON.parse(value) : value) as Json;
    default:
      return value as Json;
  }
}

/** The placeholder and values to store a field with. */
export function stored(type: FieldType, value: Json | undefined): { sql: string; values: unknown[] } {
  if (value === null || value === undefined) return { sql: 'NULL', values: [] };
  switch (type) {
    case 'place': {
      const [longitude, latitude] = (value as { coordinates: [number, number] }).coordinates;
      return { sql: 'POINT(?, ?)', values: [longitude, latitude] };
    }
    case 'list':
    case 'object':
      return { sql: '?', values: [JSON.stringify(value)] };
    case 'boolean':
      return { sql: '?', values: [value ? 1 : 0] };
    case 'time':
      return { sql: '?', values: [new Date(value as string)] };
    default:
      return { sql: '?', values: [value] };
  }
}

/** A row as JSON, for the change feed. `row` is NEW or OLD. */
export function imageSql(row: 'NEW' | 'OLD', fields: Fields): string {
  const members = [
    `'createdAt', ${row}.createdAt`,
    `'updatedAt', ${row}.updatedAt`,
    `'version', ${row}.version`,
    `'ownerId', ${row}.ownerId COLLATE utf8mb4_bin`,
  ];
  for (const [name, { type }] of fields) members.push(`'${name}', ${imageValue(`${row}.\`${name}\``, type)}`);
  return `JSON_OBJECT(${members.join(', ')})`;
}

function imageValue(column: string, type: FieldType): string {
  switch (type) {
    case 'text':
    case 'choice':
    case 'reference':
    case 'file':
      return `${column} COLLATE utf8mb4_bin`;
    case 'place':
      return `JSON_ARRAY(ST_X(${column}), ST_Y(${column}))`;
    default:
      return column;
  }
}

/** `2026-07-14 06:00:00.123000` of the database, in RFC 3339. */
const timeOf = (text: string) => `${text.slice(0, 10)}T${text.slice(11, 19)}.${text.slice(20, 23).padEnd(3, '0')}Z`;

/** The record that an image of the feed shows, in the form of the API. @param withFormer also former fields, as they were stored */
export function readImage(id: string, image: string, fields: Fields, withFormer = false): JsonObject & { id: string; version: number } {
  const { createdAt, updatedAt, version, ownerId, ...values } = JSON.parse(image) as JsonObject;
  const record: JsonObject = {
    id,
    createdAt: timeOf(createdAt as string),
    updatedAt: timeOf(updatedAt as string),
    version: version as number,
    ownerId: ownerId ?? null,
  };
  for (const [name, { type }] of fields) record[name] = presentImage(type, own(values, name));
  if (withFormer) for (const name in values) if (!fields.has(name)) record[name] = values[name] as Json;
  return record as JsonObject & { id: string; version: number };
}

function presentImage(type: FieldType, value: Json | undefined): Json {
  if (value === null || value === undefined) return null;
  switch (type) {
    case 'boolean':
      return Boolean(value);
    case 'time':
      return timeOf(value as string);
    case 'place': {
      const [x, y] = value as [number | null, number | null];
      return x === null ? null : { type: 'Point', coordinates: [x, y] };
    }
    default:
      return value;
  }
}
