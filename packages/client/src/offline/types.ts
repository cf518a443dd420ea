/** What the local copy holds. */
import type { FieldConflict, Json, JsonObject, MergePolicy } from '@orchard/core';

export type LocalRecord = JsonObject & { id: string; version: number };
/** What a device keeps at hand: the records of a collection, or those that fit a filter. */
export type Scope = {
  collection: string;
  filter?: string;
  /** Reference fields whose targets come along. */
  bring?: readonly string[];
  /** Whether changes are told at once, over a stream that stays open; others come within half a minute. A browser opens six in all. */
  live?: boolean;
  /** Fields that queries on the device often ask for. */
  indexes?: readonly string[];
};
/** How far a scope is. `round` counts its fills, `shape` names the fields that its records have. */
export type ScopeState = { shape?: string; at?: number; fill?: string; round: number; filledAt?: number; comparedAt?: number };
export type Shape = {
  name: string;
  fields: Record<string, string>;
  references: Record<string, string>;
  merge: Record<string, MergePolicy>;
  defaults: Record<string, Json>;
};

/** A record of the service, and the scopes that hold it. */
export type Row = { collection: string; id: string; record: LocalRecord; scopes: string[] };
export type PendingChange = {
  id: string;
  /** Changes go out in this order. */
  order: number;
  collection: string;
  record: string;
  action: 'create' | 'change' | 'remove';
  fields: JsonObject;
  /** What the fields held when they were changed. */
  seen: JsonObject;
  version: number;
  at: string;
  attempts: number;
  /** `held`: it depends on a change that was refused. */
  state: 'waiting' | 'refused' | 'held';
  /** A file that must be stored first. */
  waitsFor?: string;
  problem?: { problem: string; detail: string; status: number };
};
export type Conflict = FieldConflict & { id: string; collection: string; record: string; at: string };

/** A file that waits to be sent. `address`: where its upload goes on. */
export type QueuedFile = { id: string; path: string; content: Blob; collection: string; record: string; field: string; address?: string };

/** Everything that is written together: all of it is kept, or nothing. */
export type Batch = {
  rows?: Row[];
  gone?: { collection: string; id: string }[];
  pending?: PendingChange[];
  done?: string[];
  conflicts?: Conflict[];
  settled?: string[];
  files?: QueuedFile[];
  sentFiles?: string[];
  facts?: Record<string, Json>;
};
export type Loaded = { rows: Row[]; pending: PendingChange[]; conflicts: Conflict[]; files: QueuedFile[]; facts: Record<string, Json> };

/** Where the local copy outlives the app. */
export type Backing = {
  /** Whether it does; memory alone does not. */
  durable: boolean;
  /** Whether other tabs have it open too. */
  shared: boolean;
  load: () => Promise<Loaded>;
  commit: (batch: Batch) => Promise<void>;
  clear: () => Promise<void>;
  close: () => Promise<void>;
};
/** Raised when the form of what is kept changes; an older library does not touch a newer store. */
export const FORMAT = 1;
