/** The statements that write records, and what their errors mean. Raw SQL: the columns are data. */
import { Problem } from '@orchard/contract';
import { type Json, type JsonObject, own } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import { isDuplicate, isReferenceError, messageOf } from '../../platform/database/errors.js';
import { stillReferenced } from '../../platform/database/stillReferenced.js';
import { presentValue, spatialUpdateSql, stored } from '../collections/columns.js';
import type { CollectionShape, RecordRow } from '../collections/shape.js';
import { nextVersionSql } from '../collections/endedSql.js';
import type { StoredRecord } from './forms.js';

/** `chosen`: the caller chose the id, so that a record of that id may have existed before. */
export type NewRecord = { id: string; ownerId: string | null; values: JsonObject; chosen: boolean };

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

/** Inserts one record; the statement depends only on which fields have a value. */
export async function insertRecord(on: Statements, shape: CollectionShape, fresh: NewRecord, now: Date, by: string): Promise<StoredRecord> {
  const { id, ownerId, values, chosen } = fresh;
  const names = ['`id`', '`createdAt`', '`updatedAt`', '`version`', '`ownerId`', '`_by`'];
  const marks = ['?', '?', '?', chosen ? nextVersionSql(shape) : '1', '?', '?'];
  const bound: unknown[] = [id, now, now, ...(chosen ? [id] : []), ownerId, by];
  for (const name in values) {
    const field = shape.fields.get(name);
    if (!field) continue; // null for an unknown field says nothing about its type
    const value = stored(field.type, values[name]);
    names.push(`\`${name}\``);
    marks.push(value.sql);
    bound.push(...value.values);
  }
  try {
    const sql = `INSERT INTO ${shape.table} (${names.join(', ')}) VALUES (${marks.join(', ')})`;
    if (!chosen) await on.change(sql, bound);
    const [row] = chosen ? await on.rows<{ version: number }>(`${sql} RETURNING version`, bound) : [];
    return newRecord(shape, fresh, now, row?.version);
  } catch (error) {
    throw writeProblem(error, shape, { id, values });
  }
}

/** The record as it was just inserted. */
export function newRecord(
  shape: CollectionShape,
  { id, ownerId, values }: Omit<NewRecord, 'chosen'>,
  now: Date,
  version = 1,
): StoredRecord {
  const at = now.toISOString();
  const record: StoredRecord = { id, createdAt: at, updatedAt: at, version, ownerId };
  for (const name of shape.fields.keys()) record[name] = own(values, name) ?? null;
  return record;
}

/** Inserts many records as one statement. @returns versions other than 1, by id */
export async function insertRecords(
  on: Statements,
  shape: CollectionShape,
  records: readonly NewRecord[],
  now: Date,
  by: string,
): Promise<Map<string, number>> {
  const used = [...shape.fields].filter(([name]) => records.some(({ values }) => (own(values, name) ?? null) !== null));
  const bound: unknown[] = [];
  const rows = records.map(({ id, ownerId, values, chosen }) => {
    bound.push(id, now, now, ...(chosen ? [id] : []), ownerId, by);
    const cells = used.map(([name, { type }]) => {
      const value = stored(type, own(values, name));
      bound.push(...value.values);
      return value.sql;
    });
    return `(?, ?, ?, ${chosen ? nextVersionSql(shape) : '1'}, ?, ?${cells.map((cell) => `, ${cell}`).join('')})`;
  });
  const names = used.map(([name]) => `, \`${name}\``).join('');
  const sql = `INSERT INTO ${shape.table} (\`id\`, \`createdAt\`, \`updatedAt\`, \`version\`, \`ownerId\`, \`_by\`${names}) VALUES ${rows.join(', ')}`;
  if (!records.some(({ chosen }) => chosen)) {
    await on.run(sql, bound);
    return new Map();
  }
  const written = await on.runRows<{ id: string; version: number }>(`${sql} RETURNING id, version`, bound);
  return new Map(written.filter(({ version }) => version > 1).map(({ id, version }) => [id, version]));
}

/**
 * Writes the next version of many records as one statement; those that were deleted meanwhile stay deleted.
 * @param records all with values for the same fields
 * @returns the ids of those that are there
 */
export async function replaceRecords(
  on: Statements,
  shape: CollectionShape,
  records: readonly { id: string; values: JsonObject }[],
  now: Date,
  by: string,
): Promise<Set<string>> {
  const ids = records.map(({ id }) => id);
  const rows = await on.runRows<{ id: string; createdAt: Date }>(`SELECT id, createdAt FROM ${shape.table} WHERE id IN (?) FOR UPDATE`, [
    ids,
  ]);
  const there = new Map(rows.map(({ id, createdAt }) => [id, createdAt]));
  const kept = records.filter(({ id }) => there.has(id));
  if (kept.length === 0) return new Set();
  const used = [...shape.fields].filter(([name]) => Object.hasOwn(kept[0]?.values ?? {}, name));
  const bound: unknown[] = [];
  const tuples = kept.map(({ id, values }) => {
    bound.push(id, there.get(id), now, by);
    const cells = used.map(([name, { type }]) => {
      const value = stored(type, own(values, name));
      bound.push(...value.values);
      return value.sql;
    });
    return `(?, ?, ?, 1, ?${cells.map((cell) => `, ${cell}`).join('')})`;
  });
  const names = used.map(([name]) => `, \`${name}\``).join('');
  const sets = used.map(
    ([name]) => `, \`${name}\` = VALUES(\`${name}\`)${shape.indexed.places.has(name) ? `, ${spatialUpdateSql(name)}` : ''}`,
  );
  // All of them are there and locked, so nothing is inserted.
  await on.run(
    `INSERT INTO ${shape.table} (\`id\`, \`createdAt\`, \`updatedAt\`, \`version\`, \`_by\`${names}) VALUES ${tuples.join(', ')}
     ON DUPLICATE KEY UPDATE \`version\` = ${shape.table}.\`version\` + 1, \`updatedAt\` = VALUES(\`updatedAt\`), \`_by\` = VALUES(\`_by\`)${sets.join('')}`,
    bound,
  );
  return new Set(there.keys());
}

/** Writes the next version over `row`'s; null when another write was faster. */
export async function updateRecord(
  on: Statements,
  shape: CollectionShape,
  row: RecordRow,
  { ownerId, values }: Pick<NewRecord, 'ownerId' | 'values'>,
  now: Date,
  by: string,
): Promise<StoredRecord | null> {
  const sets = ['`version` = `version` + 1', '`updatedAt` = ?', '`ownerId` = ?', '`_by` = ?'];
  const bound: unknown[] = [now, ownerId, by];
  for (const name in values) {
    const field = shape.fields.get(name);
    if (!field) continue;
    const value = stored(field.type, values[name]);
    sets.push(`\`${name}\` = ${value.sql}`);
    bound.push(...value.values);
    if (shape.indexed.places.has(name)) sets.push(spatialUpdateSql(name));
  }
  try {
    const { affectedRows } = await on.change(`UPDATE ${shape.table} SET ${sets.join(', ')} WHERE id = ? AND version = ?`, [
      ...bound,
      row.id,
      row.version,
    ]);
    if (affectedRows === 0) return null;
  } catch (error) {
    throw writeProblem(error, shape, { id: row.id, values });
  }
  const record: StoredRecord = {
    id: row.id,
    createdAt: row.createdAt.toISOString(),
    updatedAt: now.toISOString(),
    version: row.version + 1,
    ownerId,
  };
  for (const [name, { type }] of shape.fields)
    record[name] = own(values, name) ?? (Object.hasOwn(values, name) ? null : presentValue(type, row[name]));
  return record;
}

export type Sum = { field: string; delta: number; min: number; max: number };

/** Adds to numbers of a record without reading it; false when there is no such record, or a sum would pass its bounds. */
export async function addToRecord(
  on: Statements,
  shape: CollectionShape,
  id: string,
  sums: readonly Sum[],
  now: Date,
  by: string,
): Promise<boolean> {
  const sum = ({ field }: Sum) => `COALESCE(\`${field}\`, 0) + ?`;
  const sets = sums.map((one) => `\`${one.field}\` = ${sum(one)}`);
  const bounds = sums.map((one) => `${sum(one)} BETWEEN ? AND ?`);
  try {
    const { affectedRows } = await on.change(
      `UPDATE ${shape.table} SET \`version\` = \`version\` + 1, \`updatedAt\` = ?, \`_by\` = ?, ${sets.join(', ')} WHERE id = ? AND ${bounds.join(' AND ')}`,
      [now, by, ...sums.map(({ delta }) => delta), id, ...sums.flatMap(({ delta, min, max }) => [delta, min, max])],
    );
    return affectedRows > 0;
  } catch (error) {
    throw writeProblem(error, shape, { id, values: {} });
  }
}

/** Deletes one version of a record; false when another write was faster. */
export async function deleteRecord(
  on: Statements,
  shape: CollectionShape,
  { id, version }: Pick<RecordRow, 'id' | 'version'>,
  by: string,
): Promise<boolean> {
  try {
    // The deletion's trigger reads the actor from the variable.
    const { affectedRows } = await on.change(`DELETE FROM ${shape.table} WHERE id = ? AND version = ? AND (@orchard_by := ?) IS NOT NULL`, [
      id,
      version,
      by,
    ]);
    return affectedRows === 1;
  } catch (error) {
    throw writeProblem(error, shape, { id, values: {} });
  }
}

export const idTaken = ({ name }: Pick<CollectionShape, 'name'>, id: string): Problem =>
  new Problem('already-exists', `\`${name}\` has a record with the id ${id} already. Choose another id, or replace it with PUT.`);

/** The refusal of a reference to a missing record, or to one that the caller may not read. */
export function danglingReference(shape: CollectionShape, field: string, value: Json): Problem {
  const to = shape.fields.get(field)?.to;
  return invalid(
    `body.${field}`,
    `Field \`${field}\` in \`${shape.name}\` refers to \`${to}\` ${JSON.stringify(value)}, which does not exist.`,
    `the id of a record of \`${to}\`, or null`,
  );
}

/** What the database's refusal of a write means to the caller; other errors are returned as they are. */
export function writeProblem(error: unknown, shape: CollectionShape, { id, values }: { id: string; values: JsonObject }): unknown {
  const message = messageOf(error);
  if (isDuplicate(error)) {
    const key = /for key '(?:.*\.)?([^']+)'$/.exec(message)?.[1];
    const field = key === 'PRIMARY' ? null : shape.indexes.find(({ name }) => name === key)?.fields.join(', ');
    if (!field) return idTaken(shape, id);
    const problem = `Another record of \`${shape.name}\` has this ${field} already.`;
    return new Problem('already-exists', `${problem} \`${field}\` is unique.`, {
      fields: [{ path: `body.${field}`, problem, expected: 'a value that no other record has' }],
    });
  }
  const field = /FOREIGN KEY \(`(\w+)`\)/.exec(message)?.[1] ?? '';
  switch (isReferenceError(error)) {
    case 'missing':
      return danglingReference(shape, field, own(values, field) ?? '');
    case 'used':
      return stillReferenced(shape.name, id, error);
    default:
      return error;
  }
}
