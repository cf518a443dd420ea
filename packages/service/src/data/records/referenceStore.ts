/** What happens to records when the one they refer to is deleted. */
import { Problem } from '@orchard/contract';
import { targetOfField } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import type { Shapes } from '../collections/catalogue.js';
import type { CollectionShape, RecordRow } from '../collections/shape.js';
import type { UserRemoval } from '../../platform/ports.js';
import type { Parts } from './parts.js';
import { deleteRecord } from './writeStore.js';

/** The most records that one deletion may cascade to. */
const MAX_CASCADE = 10_000;

type Incoming = { shape: CollectionShape; field: string; onDelete: 'clear' | 'cascade' };

/** References from other collections that act on a deletion. */
function incomingReferences(shapes: Shapes, collection: string): Incoming[] {
  return [...shapes.collections.values()].flatMap((shape) =>
    [...shape.fields].flatMap(([name, field]) => {
      const { onDelete } = field;
      return targetOfField(field) === collection && onDelete && onDelete !== 'restrict' ? [{ shape, field: name, onDelete }] : [];
    }),
  );
}

/** Whether deleting a record of the collection changes others, and so needs a transaction. */
export const isReferred = (shapes: Shapes, collection: string): boolean => incomingReferences(shapes, collection).length > 0;

/** `follow` is told of each record that is deleted with it, where somebody wants to know. */
export type Deletion = { now: Date; by: string; taken: Set<string>; follow?: (shape: CollectionShape, row: RecordRow) => Promise<void> };

/** Clears and deletes what refers to a record, so that it can be deleted itself. Has to run in a transaction. */
export async function releaseReferences(on: Statements, shapes: Shapes, collection: string, id: string, deletion: Deletion): Promise<void> {
  deletion.taken.add(`${collection}/${id}`);
  for (const { shape, field, onDelete } of incomingReferences(shapes, collection)) {
    if (onDelete === 'clear')
      await on.change(
        `UPDATE ${shape.table} SET \`${field}\` = NULL, version = version + 1, updatedAt = ?, \`_by\` = ? WHERE \`${field}\` = ?`,
        [deletion.now, deletion.by, id],
      );
    else await cascade(on, shapes, shape, field, id, deletion);
  }
}

async function cascade(
  on: Statements,
  shapes: Shapes,
  shape: CollectionShape,
  field: string,
  id: string,
  deletion: Deletion,
): Promise<void> {
  const rows = await on.rows<RecordRow>(
    `SELECT ${deletion.follow ? '*' : 'id, version'} FROM ${shape.table} WHERE \`${field}\` = ? LIMIT ${MAX_CASCADE + 1} FOR UPDATE`,
    [id],
  );
  for (const row of rows) {
    if (deletion.taken.has(`${shape.name}/${row.id}`)) continue;
    if (deletion.taken.size >= MAX_CASCADE)
      throw new Problem(
        'still-referenced',
        `More than ${MAX_CASCADE.toLocaleString('en')} records would be deleted with this one. Delete those of \`${shape.name}\` first.`,
      );
    await releaseReferences(on, shapes, shape.name, row.id, deletion);
    await deleteRecord(on, shape, row, deletion.by);
    await deletion.follow?.(shape, row);
  }
}

/** Handles references to a removed user: cleared or cascaded, as each field says. */
export async function releaseUser(parts: Parts, { on, environment, userId, by }: UserRemoval): Promise<void> {
  const shapes = await parts.catalogue.shapes(environment);
  await releaseReferences(on, shapes, 'users', userId, { now: new Date(parts.now()), by, taken: new Set() });
}
