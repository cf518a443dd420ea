/** What this room asks of rooms above it; each port is filled by the room that can answer. */
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { EventStream } from '../../platform/live/eventStream.js';
import type { Author } from './author.js';
import type { Expected, RecordListRequest, RecordPage, StoredRecord, Summary, SummaryRequest } from './forms.js';

/** Records that do not stand in a table of this environment, and answer for themselves. */
export type RecordsElsewhere = {
  read: (id: string, author: Author, request: { fields?: string | undefined; include?: string | undefined }) => Promise<StoredRecord>;
  list: (request: RecordListRequest, author: Author) => Promise<RecordPage>;
  summarise: (request: SummaryRequest, author: Author) => Promise<Summary>;
  create: (body: JsonObject, author: Author) => Promise<StoredRecord>;
  put: (id: string, body: JsonObject, expected: Expected, author: Author) => Promise<{ record: StoredRecord; created: boolean }>;
  patch: (id: string, body: JsonObject, expected: Expected, author: Author) => Promise<StoredRecord>;
  remove: (id: string, expected: Expected, author: Author) => Promise<void>;
  /** Checks what is asked for, and gives what streams it. */
  live: (author: Author, watched: { filter?: string | undefined; id?: string }) => Promise<(events: EventStream) => Promise<void>>;
  /** @throws {Problem} outside-unsupported */
  refuse: (what: string) => never;
};

export type RecordPorts = {
  /** The records of a name that is no collection of the environment; null where there are none. */
  elsewhere: (environment: Environment, collection: string) => Promise<RecordsElsewhere | null>;
};
export const emptyRecordPorts = (): RecordPorts => ({ elsewhere: async () => null });
