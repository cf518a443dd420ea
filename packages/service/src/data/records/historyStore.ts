/** The past of a record, from the change feed: who changed what, when; and restoring earlier versions. */
import { Problem, type RecordVersion } from '@orchard/contract';
import { type Json, type JsonObject, own } from '@orchard/core';
import { readInPieces } from '../../platform/database/pieces.js';
import type { Environment } from '../../platform/call.js';
import type { FeedRow } from '../../platform/live/feed.js';
import { readImage } from '../collections/columns.js';
import type { Records } from './records.js';
import { feedTable } from '../../platform/live/tables.js';

const MAX_VERSIONS = 200;
const SYSTEM = new Set(['id', 'createdAt', 'updatedAt', 'version']);

export class History {
  constructor(private readonly records: Records) {}

  /** Versions from the newest to the oldest kept. */
  async versions(
    environment: Environment,
    collection: string,
    id: string,
    before?: number,
  ): Promise<{ items: RecordVersion[]; more: boolean }> {
    const { shape } = await this.records.known(environment, collection);
    // Versions of large records are read a few at a time.
    const { rows, most } = await readInPieces(MAX_VERSIONS, async (most) => ({
      most,
      rows: await this.#entries(environment, collection, id, before ?? Number.MAX_SAFE_INTEGER, most + 1),
    }));
    const image = (text: string | null) => (text === null ? null : readImage(id, text, shape.fields, true));
    const items = rows.slice(0, most).map(
      (row): RecordVersion => ({
        entry: row.entry,
        version: row.version,
        action: row.action,
        at: row.at.toISOString(),
        by: environment.actors.show(row.by),
        changes: changesBetween(image(row.before), image(row.after)),
      }),
    );
    return { items, more: rows.length > most };
  }

  #entries(environment: Environment, collection: string, id: string, before: number, limit: number) {
    return environment.db.rows<FeedRow & { entry: number }>(
      `SELECT entry, number, action, version, at, \`by\`, \`before\`, \`after\` FROM ${environment.db.of(feedTable)} WHERE collection = ? AND recordId = ? AND entry < ? ORDER BY entry DESC LIMIT ${limit}`,
      [collection, id, before],
    );
  }

  /** The fields of an earlier version. @throws {Problem} not-found */
  async valuesOf(environment: Environment, collection: string, id: string, entry: number): Promise<JsonObject> {
    const { shape } = await this.records.known(environment, collection);
    const [row] = await environment.db.rows<FeedRow>(
      `SELECT \`before\`, \`after\` FROM ${environment.db.of(feedTable)} WHERE entry = ? AND collection = ? AND recordId = ?`,
      [entry, collection, id],
    );
    const text = row?.after ?? row?.before;
    if (!text) throw new Problem('not-found', `No version ${entry} of ${collection}/${id} is kept. History goes back 30 days.`);
    const { id: _id, createdAt: _c, updatedAt: _u, version: _v, ...values } = readImage(id, text, shape.fields);
    return values;
  }
}

/** Fields that differ; of a new or deleted record, those with a value. */
function changesBetween(before: JsonObject | null, after: JsonObject | null): RecordVersion['changes'] {
  const names = [...new Set([...Object.keys(before ?? {}), ...Object.keys(after ?? {})])].filter((name) => !SYSTEM.has(name));
  const value = (record: JsonObject | null, name: string): Json => own(record ?? {}, name) ?? null;
  return names
    .filter((name) => JSON.stringify(value(before, name)) !== JSON.stringify(value(after, name)))
    .map((name) => ({ field: name, from: value(before, name), to: value(after, name) }));
}
