/** Files that belong to what is deleted: a record that takes them along, or a user. */
import { Problem } from '@orchard/contract';
import { type JsonObject, own } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { FILES } from '../collections/filesShape.js';
import { presentRow } from '../collections/shape.js';
import type { RecordPorts } from '../records/ports.js';
import { authorKept } from './addressing.js';
import { addDeleted, fileOf, filesOwnedBy } from './fileStore.js';
import type { FilesRoom } from './filesRoom.js';

/** Deletes the files that go with a deleted record; one that something else still refers to stays. */
export function deleteWithRecord({ parts, storing }: FilesRoom): RecordPorts['gone'] {
  return async (on, environment, author, { collection, before }) => {
    const shapes = await parts.catalogue.shapes(environment);
    const fields = shapes.collections.get(collection)?.fields ?? new Map();
    for (const [name, { type, withRecord }] of fields) {
      const id = type === 'file' && withRecord === 'delete' ? own(before ?? {}, name) : null;
      if (typeof id === 'string') await remove(on, environment, id, author.by);
    }
  };

  async function remove(on: Statements, environment: Environment, id: string, by: string): Promise<void> {
    const shape = await parts.catalogue.files(environment);
    const row = await fileOf(on, shape, id);
    if (!row) return;
    const author = authorKept({ userId: null, by });
    try {
      await storing.gate.do(on, environment, author, { action: 'remove', collection: FILES, id, record: {}, expected: {} }, null);
    } catch (error) {
      if (error instanceof Problem && error.problem === 'still-referenced') return;
      throw error;
    }
    await addDeleted(on, environment, row, presentRow(shape, row, null, true), by, new Date(parts.now()));
  }
}

/** What is known of the files of a user, for themselves. */
export async function filesOfUser({ parts }: FilesRoom, environment: Environment, userId: string): Promise<JsonObject> {
  const shape = await parts.catalogue.find(environment, FILES);
  if (!shape) return {};
  const rows = await filesOwnedBy(environment, shape, userId);
  return rows.length === 0 ? {} : { files: rows.map((row) => presentRow(shape, row, null, false)) };
}
