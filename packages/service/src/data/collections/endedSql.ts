import type { CollectionShape } from './shape.js';
import { endedRecordTable } from './tables.js';

/** The first version of a record; of one that was there before and deleted, the one after its last. Bound to its id. */
export const nextVersionSql = ({ name, db }: CollectionShape): string =>
  `(SELECT COALESCE(MAX(e.version), 0) + 1 FROM ${db.of(endedRecordTable)} e WHERE e.collection = '${name}' AND e.recordId = ?)`;

/** The last version that a record had before it was deleted, as SQL; 0 where it never was. @param id of the record, in SQL */
export const lastEndedSql = ({ name, db }: CollectionShape, id: string): string =>
  `(SELECT COALESCE(MAX(e.version), 0) FROM ${db.of(endedRecordTable)} e WHERE e.collection = '${name}' AND e.recordId = ${id})`;
