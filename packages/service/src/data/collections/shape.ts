/** The shape of one collection, and the SQL that depends on it alone. */
import {
  type AccessRules,
  type Field,
  type Fields,
  type JsonObject,
  kindOfField,
  SYSTEM_FIELDS,
  type ValueKind,
  SYSTEM_KINDS,
} from '@orchard/core';
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { presentValue } from './columns.js';

/** `fields` may hold paths into objects. `search` is over texts, `items` over one list. */
export type Index = { name: string; fields: string[]; kind: 'order' | 'unique' | 'place' | 'search' | 'items' };
/** What the queries of a collection can use besides the columns of its fields. */
export type IndexColumns = {
  /** Fields whose place has a spatial index. */
  places: ReadonlySet<string>;
  /** Lists whose items have a full-text index. */
  items: ReadonlySet<string>;
  /** The texts that `search` looks into. */
  searched: readonly string[];
  /** Columns of what lies inside objects, by the name of the path. */
  paths: ReadonlyMap<string, string>;
};
export const NO_INDEX_COLUMNS: IndexColumns = { places: new Set(), items: new Set(), searched: [], paths: new Map() };
/** A field that was dropped or changed, whose column still holds its values. */
export type DroppedField = { column: string; name: string; field: Field; at: string };

export type CollectionShape = {
  name: string;
  fields: Fields;
  rules: AccessRules;
  indexes: Index[];
  dropped: DroppedField[];
  indexed: IndexColumns;
  createdAt: Date;
  db: EnvironmentDatabase;
  /** Its table's name in SQL. */
  table: string;
};

export type RecordRow = { id: string; createdAt: Date; updatedAt: Date; version: number; ownerId: string | null; [field: string]: unknown };

/** Names that may be requested: system members and fields; clients do not see hidden ones. */
export function visibleNames(shape: Pick<CollectionShape, 'fields'>, withHidden: boolean): string[] {
  return [...SYSTEM_FIELDS, ...[...shape.fields].filter(([, { hidden }]) => withHidden || !hidden).map(([name]) => name)];
}

export function kindIn(shape: Pick<CollectionShape, 'fields'>, name: string, withHidden: boolean): ValueKind | null {
  const field = shape.fields.get(name);
  if (field) return field.hidden && !withHidden ? null : kindOfField(field);
  return SYSTEM_KINDS.get(name) ?? null;
}

/**
 * A row as the API returns it.
 * @param only the names to return; `id` and `version` are always there
 */
export function presentRow(
  shape: CollectionShape,
  row: RecordRow,
  only: ReadonlySet<string> | null,
  withHidden: boolean,
): JsonObject & { id: string; version: number } {
  const record: JsonObject & { id: string; version: number } = { id: row.id } as never;
  if (!only || only.has('createdAt')) record.createdAt = row.createdAt.toISOString();
  if (!only || only.has('updatedAt')) record.updatedAt = row.updatedAt.toISOString();
  record.version = row.version;
  if (!only || only.has('ownerId')) record.ownerId = row.ownerId;
  for (const [name, field] of shape.fields) {
    if ((!only || only.has(name)) && (withHidden || !field.hidden)) record[name] = presentValue(field.type, row[name]);
  }
  return record;
}

/** Removes hidden fields from a record. */
export function withoutHidden<R extends JsonObject>(shape: CollectionShape, record: R): R {
  let shown = record;
  for (const [name, { hidden }] of shape.fields) {
    if (!hidden) continue;
    if (shown === record) shown = { ...record };
    delete shown[name];
  }
  return shown;
}

/** The users of an environment, as references and filters see them. */
export const usersShape = (db: EnvironmentDatabase): CollectionShape => ({
  name: 'users',
  fields: new Map<string, Field>([
    ['email', { type: 'text' }],
    ['name', { type: 'text' }],
    ['roles', { type: 'list' }],
    ['disabled', { type: 'boolean' }],
  ]),
  rules: { read: "id = me('id')", create: 'FALSE', update: 'FALSE', delete: 'FALSE' },
  indexes: [],
  dropped: [],
  indexed: NO_INDEX_COLUMNS,
  createdAt: new Date(0),
  db,
  table: db.collection('_users'),
});
