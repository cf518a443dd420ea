/** What this room asks of rooms above it; each port is filled by the room that can answer. */
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
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

/** A write that somebody asks for, before anything of it is done. `id` is empty for a creation that leaves it to the service. */
export type AskedWrite = {
  action: 'create' | 'put' | 'change' | 'remove';
  collection: string;
  id: string;
  record: JsonObject;
  expected: Expected;
};
/** What hooks before a write made of it. */
export type HookedWrite = {
  /** Fields in place of what was sent; `ownerId` among them. */
  set: JsonObject;
  /** Members of the answer that are not stored. */
  answer: JsonObject;
  /** The state of the record that the hooks saw. */
  saw: Expected;
  /** Versions of other records that they rely on. */
  relies: { collection: string; id: string; version: number }[];
  /** What they write besides, in the same transaction. */
  joined: JoinedWrite[];
};
export type JoinedWrite = { author: Author; asked: AskedWrite; hooked: HookedWrite | null };
/** A write that was done. */
export type DoneWrite = {
  action: 'create' | 'update' | 'delete';
  collection: string;
  id: string;
  before: JsonObject | null;
  record: JsonObject | null;
};
type Reading = { filter?: string | undefined; sort?: string | undefined; limit?: number | undefined };
/** What hooks make of a read: conditions on collections, besides their rules, and another order or length of a list. */
export type Narrowing = { rules: Readonly<Record<string, string>>; sort?: string; limit?: number };

/** Functions of the team that stand on records. */
export type RecordHooks = {
  /** Which moments of a collection's writes have hooks. */
  on: (environment: Environment, collection: string) => Promise<{ before: boolean; after: boolean }>;
  /** @returns null where no hook stands on it @throws {Problem} refused-by-function, function-failed, function-stopped, hooks-too-deep */
  before: (environment: Environment, author: Author, asked: AskedWrite) => Promise<HookedWrite | null>;
  /** Adds what follows from a write, in its transaction. @returns whether anything does; the queue is woken when it is committed */
  after: (on: Statements, environment: Environment, author: Author, done: DoneWrite) => Promise<boolean>;
  /** @param others whether the request reaches other collections as well */
  narrow: (
    environment: Environment,
    author: Author,
    asked: { collection: string; action: 'read' | 'list'; id?: string; query: Reading; others: boolean },
  ) => Promise<Narrowing | null>;
  reshape: <R extends JsonObject>(
    environment: Environment,
    author: Author,
    asked: { collection: string; action: 'read' | 'list'; items: R[] },
  ) => Promise<R[]>;
};
const NO_HOOKS: RecordHooks = {
  on: async () => ({ before: false, after: false }),
  before: async () => null,
  after: async () => false,
  narrow: async () => null,
  reshape: async (_environment, _author, { items }) => items,
};

export type RecordPorts = {
  hooks: RecordHooks;
  /** A record was deleted, in this transaction: what goes with it. */
  gone: (on: Statements, environment: Environment, author: Author, done: DoneWrite) => Promise<void>;
  /** The records of a name that is no collection of the environment; null where there are none. */
  elsewhere: (environment: Environment, collection: string) => Promise<RecordsElsewhere | null>;
};
export const emptyRecordPorts = (): RecordPorts => ({
  elsewhere: async () => null,
  hooks: NO_HOOKS,
  gone: async () => undefined,
});
