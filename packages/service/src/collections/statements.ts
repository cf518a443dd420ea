/** The SQL of a collection, written once for its shape. */
import type { FieldType, Json, JsonObject } from '@orchard/core';
import type { ColumnKind, Columns } from '../database/listing.js';

export type RecordRow = { id: string; createdAt: Date; updatedAt: Date; version: number; ownerId: string | null; [field: string]: unknown };

export type RecordStatements = {
  /** `database`.`collection` */
  table: string;
  /** SELECT of all columns by id. */
  read: string;
  remove: string;
  columns: Columns;
  /** Readers of the fields, in the table's order. */
  present: (row: RecordRow, only?: ReadonlySet<string>) => JsonObject & { id: string };
};

const KINDS: Record<FieldType, ColumnKind> = {
  text: 'text',
  integer: 'number',
  number: 'number',
  boolean: 'boolean',
  place: 'other',
  list: 'other',
  object: 'other',
};

export function prepareStatements(database: string, collection: string, fields: ReadonlyMap<string, FieldType>): RecordStatements {
  const table = `\`${database}\`.\`${collection}\``;
  const columns = new Map<string, { sql: string; kind: ColumnKind }>([
    ['id', { sql: '`id`', kind: 'text' }],
    ['createdAt', { sql: '`createdAt`', kind: 'time' }],
    ['updatedAt', { sql: '`updatedAt`', kind: 'time' }],
    ['version', { sql: '`version`', kind: 'number' }],
    ['ownerId', { sql: '`ownerId`', kind: 'text' }],
  ]);
  for (const [name, type] of fields) columns.set(name, { sql: `\`${name}\``, kind: KINDS[type] });
  const list = [...columns.values()].map(({ sql }) => sql).join(', ');
  const types = [...fields];
  return {
    table,
    read: `SELECT ${list} FROM ${table} WHERE id = ?`,
    remove: `DELETE FROM ${table} WHERE id = ? AND version = ?`,
    columns,
    present: (row, only) => {
      const record: JsonObject & { id: string } = {
        id: row.id,
        createdAt: row.createdAt.toISOString(),
        updatedAt: row.updatedAt.toISOString(),
        version: row.version,
        ownerId: row.ownerId,
      };
      for (const [name, type] of types) if (!only || only.has(name)) record[name] = presentValue(type, row[name]);
      if (only) for (const name of ['createdAt', 'updatedAt', 'ownerId']) if (!only.has(name)) delete record[name];
      return record;
    },
  };
}

function presentValue(type: FieldType, value: unknown): Json {
  if (value === null || value === undefined) return null;
  switch (type) {
    case 'boolean':
      return Boolean(value);
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

/** The placeholder and value to store a field with. */
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
    default:
      return { sql: '?', values: [value] };
  }
}
