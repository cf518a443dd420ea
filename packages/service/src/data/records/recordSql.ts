/** Statements that read one record, built once for each shape. Raw SQL: the columns are data. */
import type { Statements } from '../../platform/database/connection.js';
import type { CollectionShape, RecordRow } from '../collections/shape.js';

const readSqls = new WeakMap<CollectionShape, string>();

/** SELECT of one record with all of its fields, bound to its id. */
export function readSql(shape: CollectionShape): string {
  let sql = readSqls.get(shape);
  if (!sql) {
    sql = `SELECT id, createdAt, updatedAt, version, ownerId${[...shape.fields.keys()].map((name) => `, \`${name}\``).join('')} FROM ${shape.table} WHERE id = ?`;
    readSqls.set(shape, sql);
  }
  return sql;
}

/** The same, and nobody else writes it until the transaction ends. */
export const lockSql = (shape: CollectionShape): string => `${readSql(shape)} FOR UPDATE`;

/** A record with all columns of its table, also of one that has no fields, such as users. */
export async function readRow(on: Statements, { table }: CollectionShape, id: string): Promise<RecordRow | undefined> {
  return (await on.rows<RecordRow>(`SELECT * FROM ${table} WHERE id = ?`, [id]))[0];
}
