/** Fields of users in SQL: their values stand in the JSON of the users' data. */
import type { ValueKind } from '@orchard/core';
import type { ColumnKind } from '../../platform/database/listing.js';

/**
 * @param data the column of the data, with its alias
 * @param name letters, digits and _
 */
export function userFieldSql(data: string, name: string, kind: ValueKind): string {
  const path = `'$.${name}'`;
  const text = `JSON_VALUE(${data}, ${path})`;
  switch (kind) {
    case 'number':
      return `CAST(${text} AS DOUBLE)`;
    case 'boolean':
      return `(CASE JSON_EXTRACT(${data}, ${path}) WHEN 'true' THEN TRUE WHEN 'false' THEN FALSE END)`;
    case 'date':
      return `CAST(${text} AS DATE)`;
    case 'time':
      return `STR_TO_DATE(${text}, '%Y-%m-%dT%H:%i:%s.%fZ')`;
    case 'list':
      return `JSON_EXTRACT(${data}, ${path})`;
    default:
      return text;
  }
}

const COLUMN_KINDS: Partial<Record<ValueKind, ColumnKind>> = {
  text: 'text',
  number: 'number',
  boolean: 'boolean',
  date: 'date',
  time: 'time',
  list: 'list',
};

/** Fields as columns of a list. */
export const userFieldColumns = (
  kinds: ReadonlyMap<string, ValueKind>,
  prefix: string,
  sqlOf: (name: string, kind: ValueKind) => string,
): [string, { sql: string; kind: ColumnKind }][] =>
  [...kinds].map(([name, kind]) => [`${prefix}${name}`, { sql: sqlOf(name, kind), kind: COLUMN_KINDS[kind] ?? 'other' }]);
