/** What was sent of a record, apart from what it has besides. */
import { type JsonObject, own, SYSTEM_FIELDS } from '@orchard/core';
import type { StoredRecord } from './forms.js';

/** For a record changed by a caller who may not read it: the fields sent, and the system members. */
export const sentBack = (record: StoredRecord, sent: JsonObject): StoredRecord =>
  Object.fromEntries(
    Object.entries(record).filter(([name]) => (SYSTEM_FIELDS as readonly string[]).includes(name) || Object.hasOwn(sent, name)),
  ) as StoredRecord;

/** A record that was read may be sent back whole; its system members are then ignored. */
export function withoutEcho(body: JsonObject): JsonObject {
  const { createdAt: _c, updatedAt: _u, version: _v, ...rest } = body;
  return rest;
}

/** A body without one of its members. */
export function without(body: JsonObject, name: string): JsonObject {
  const { [name]: _, ...rest } = body;
  return rest;
}

/** Values without those that functions set. */
export const sentOf = (values: JsonObject, set: JsonObject = {}): JsonObject =>
  Object.fromEntries(Object.entries(values).filter(([name]) => !Object.hasOwn(set, name)));

/** The owner that functions set, if they do. */
export const ownerIn = (set: JsonObject = {}): { ownerId?: string | null } =>
  Object.hasOwn(set, 'ownerId') ? { ownerId: set.ownerId as string | null } : {};

/** What a new record was given, besides nothing. */
export const givenNames = (values: JsonObject): string[] => Object.keys(values).filter((name) => (values[name] ?? null) !== null);

/** What a write changes. */
export const changedNames = (before: JsonObject, after: JsonObject): string[] =>
  Object.keys(after).filter((name) => JSON.stringify(own(before, name) ?? null) !== JSON.stringify(after[name] ?? null));
