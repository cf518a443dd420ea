/** The records that a user owns, for themselves: without fields that are hidden from apps. */
import { FILES, type JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { type CollectionShape, presentRow, type RecordRow } from '../collections/shape.js';
import type { Parts } from './parts.js';
import { leaveOut } from './reading.js';

/** What only some may see is not the owner's to take along. */
const guarded = ({ fields }: CollectionShape): string[] =>
  [...fields].filter(([, { seenBy }]) => seenBy !== undefined).map(([name]) => name);

const MOST = 10_000;

export async function ownedRecords({ catalogue }: Parts, environment: Environment, userId: string): Promise<JsonObject> {
  const { collections } = await catalogue.shapes(environment);
  const owned: JsonObject = {};
  for (const shape of collections.values()) {
    if (shape.name === FILES) continue;
    const rows = await environment.db.rows<RecordRow>(`SELECT * FROM ${shape.table} WHERE ownerId = ? ORDER BY id LIMIT ${MOST}`, [userId]);
    if (rows.length > 0) owned[shape.name] = rows.map((row) => leaveOut(presentRow(shape, row, null, false), guarded(shape)));
  }
  return owned;
}
