/** The statements that write records, and what their errors mean. */
import { Problem } from '@orchard/contract';
import type { Json, JsonObject } from '@orchard/core';
import { isDuplicate, isReferenceError, messageOf, type Statements } from '../database/connection.js';
import { presentValue, spatialUpdateSql, stored } from './columns.js';
import type { CollectionShape, RecordRow } from './shape.js';

export type StoredRecord = JsonObject & { id: string; version: number };
export type NewRecord = { id: string; ownerId: string | null; values: JsonObject };

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

/** Inserts one record; the statement depends only on which fields have a value. */
export async function insertRecord(
  on: Statements,
  shape: CollectionShape,
  { id, ownerId, values }: NewRecord,
  now: Date,
  by: string,
): Promise<StoredRecord> {
  const names = ['`id`', '`createdAt`', '`updatedAt`', '`version`', '`ownerId`', '`_by`'];
  const places = ['?', '?', '?', '1', '?', '?'];
  const bound: unknown[] = [id, now, now, ownerId, by];
  for (const name in values) {
    const field = shape.fields.get(name);
    if (!field) continue; // a null for a field nobody knows yet decides nothing
    const value = stored(field.type, values[name]);
    names.push(`\`${name}\``);
    places.push(value.sql);
    bound.push(...value.values);
  }
  try {
    await on.change(`INSERT INTO ${shape.table} (${names.join(', ')}) VALUES (${places.join(', ')})`, bound);
  } catch (error) {
    throw writeProblem(error, shape, { id, values });
  }
  return newRecord(shape, { id, ownerId, values }, now);
}

/** The record as it was just inserted. */
export function newRecord(shape: CollectionShape, { id, ownerId, values }: NewRecord, now: Date): StoredRecord {
  const at = now.toISOString();
  const record: StoredRecord = { id, createdAt: at, updatedAt: at, version: 1, ownerId };
  for (const name of shape.fields.keys()) record[name] = values[name] ?? null;
  return record;
}

/** Inserts many records as one statement. */
export async function insertRecords(
  on: Statements,
  shape: CollectionShape,
  records: readonly NewRecord[],
  now: Date,
  by: string,
): Promise<void> {
  const used = [...shape.fields].filter(([name]) => records.some(({ values }) => values[name] !== undefined && values[name] !== null));
  const bound: unknown[] = [];
  const rows = records.map(({ id, ownerId, values }) => {
    bound.push(id, now, now, ownerId, by);
    const cells = used.map(([name, { type }]) => {
      const value = stored(type, values[name]);
      bound.push(...value.values);
      return value.sql;
    });
    return `(?, ?, ?, 1, ?, ?${cells.map((cell) => `, ${cell}`).join('')})`;
  });
  const names = used.map(([name]) => `, \`${name}\``).join('');
  await on.run(
    `INSERT INTO ${shape.table} (\`id\`, \`createdAt\`, \`updatedAt\`, \`version\`, \`ownerId\`, \`_by\`${names}) VALUES ${rows.join(', ')}`,
    bound,
  );
}

/** Writes the next version over `row`'s; null when somebody else was quicker. */
export async function updateRecord(
  on: Statements,
  shape: CollectionShape,
  row: RecordRow,
  { ownerId, values }: Omit<NewRecord, 'id'>,
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
    if (shape.placesIndexed.has(name)) sets.push(spatialUpdateSql(name));
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
    record[name] = values[name] === undefined ? presentValue(type, row[name]) : (values[name] as Json);
  return record;
}

/** Deletes one version of a record; false when somebody else was quicker. */
export async function deleteRecord(
  on: Statements,
  shape: CollectionShape,
  { id, version }: Pick<RecordRow, 'id' | 'version'>,
  by: string,
): Promise<boolean> {
  try {
    // The trigger of the deletion learns from the variable who did it.
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

/** What the database's refusal of a write means to the caller; other errors are answered as they are. */
export function writeProblem(error: unknown, shape: CollectionShape, { id, values }: { id: string; values: JsonObject }): unknown {
  const message = messageOf(error);
  if (isDuplicate(error)) {
    const key = /for key '(?:.*\.)?([^']+)'$/.exec(message)?.[1];
    const field = key === 'PRIMARY' ? null : shape.indexes.find(({ name }) => name === key)?.fields.join(', ');
    if (!field)
      return new Problem(
        'already-exists',
        `\`${shape.name}\` has a record with the id ${id} already. Choose another id, or replace it with PUT.`,
      );
    const problem = `Another record of \`${shape.name}\` has this ${field} already.`;
    return new Problem('already-exists', `${problem} \`${field}\` is unique.`, {
      fields: [{ path: `body.${field}`, problem, expected: 'a value that no other record has' }],
    });
  }
  const field = /FOREIGN KEY \(`(\w+)`\)/.exec(message)?.[1] ?? '';
  switch (isReferenceError(error)) {
    case 'missing': {
      const to = shape.fields.get(field)?.to;
      return invalid(
        `body.${field}`,
        `Field \`${field}\` in \`${shape.name}\` refers to \`${to}\` ${JSON.stringify(values[field] ?? '')}, which does not exist.`,
        `the id of a record of \`${to}\`, or null`,
      );
    }
    case 'used': {
      const from = /\(`[^`]+`\.`([^`]+)`, CONSTRAINT/.exec(message)?.[1];
      return new Problem(
        'still-referenced',
        `\`${shape.name}\` ${id} is still referred to by \`${field}\` in \`${from}\`. Change or delete those records first, or set the reference to clear or cascade.`,
      );
    }
    default:
      return error;
  }
}
