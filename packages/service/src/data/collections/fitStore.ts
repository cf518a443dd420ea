/**
 * How many of a collection's values fit a change of their field. Raw SQL: the tables of collections have the shape that
 * teams give them.
 */
import type { Field, Json } from '@orchard/core';
import type { PoolConnection } from 'mysql2/promise';
import { targetTable } from './collectionDdl.js';
import { presentValue } from './columns.js';
import type { CollectionShape } from './shape.js';

const CHUNK = 2_000;
const MOST_TWINS = 1_000;
const MOST_DANGLING = 10_000;
export type Value = { id: string; value: unknown };

export async function countRecords({ db, table }: CollectionShape): Promise<number> {
  return Number((await db.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM ${table}`))[0]?.n ?? 0);
}

/** All values of a field (or null for each record), a chunk at a time. */
export async function* valuesOf({ db, table }: CollectionShape, name: string | null): AsyncGenerator<Value[]> {
  const column = name ? `\`${name}\`` : 'NULL';
  for (let after = ''; ; ) {
    const rows = await db.rows<Value>(`SELECT id, ${column} AS value FROM ${table} WHERE id > ? ORDER BY id LIMIT ${CHUNK}`, [after]);
    const last = rows.at(-1);
    if (!last) return;
    yield rows;
    after = last.id;
  }
}

/** Values that several records have, with one of those records. */
export function twinsOf({ db, table }: CollectionShape, name: string): Promise<(Value & { n: number })[]> {
  return db.rows(
    `SELECT MIN(id) AS id, COUNT(*) AS n, \`${name}\` AS value FROM ${table} WHERE \`${name}\` IS NOT NULL GROUP BY \`${name}\` HAVING COUNT(*) > 1 LIMIT ${MOST_TWINS}`,
  );
}

/** Values that are no id of the collection that `field` refers to. */
export function danglingIn({ db, table }: CollectionShape, name: string, field: Field): Promise<Value[]> {
  return db.rows(
    `SELECT t.id, t.\`${name}\` AS value FROM ${table} t LEFT JOIN ${targetTable(db, field)} r ON r.id = t.\`${name}\` WHERE t.\`${name}\` IS NOT NULL AND r.id IS NULL LIMIT ${MOST_DANGLING}`,
  );
}

/** Empties the values that are `broken`, as a change of those records. */
export async function clearMisfits(
  connection: PoolConnection,
  shape: CollectionShape,
  name: string,
  broken: (value: Json) => boolean,
  now: Date,
): Promise<void> {
  const { type } = shape.fields.get(name) as Field;
  for await (const rows of valuesOf(shape, name)) {
    const ids = rows.filter(({ value }) => value !== null && broken(presentValue(type, value))).map(({ id }) => id);
    if (ids.length > 0) await connection.query(`UPDATE ${shape.table} SET ${clearing(name)} WHERE id IN (?)`, [now, ids]);
  }
}

export async function clearDangling(
  connection: PoolConnection,
  { db, table }: CollectionShape,
  name: string,
  field: Field,
  now: Date,
): Promise<void> {
  // Through a derived table, since a table that is updated cannot be read in the same statement.
  const targets = `(SELECT id FROM ${targetTable(db, field)}) r`;
  await connection.query(
    `UPDATE ${table} SET ${clearing(name)} WHERE \`${name}\` IS NOT NULL AND NOT EXISTS (SELECT 1 FROM ${targets} WHERE r.id = \`${name}\`)`,
    [now],
  );
}

const clearing = (name: string) => `\`${name}\` = NULL, version = version + 1, updatedAt = ?, \`_by\` = 'schema'`;
