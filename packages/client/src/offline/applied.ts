/** What a pending change makes of a record, on the device. */
import { applyFieldChanges, hasFieldChanges, readFieldChanges } from '@orchard/core/fieldChanges';
import { type Json, type JsonObject, mergePatch, own } from '@orchard/core/json';
import type { LocalRecord, PendingChange, Shape } from './types.js';

/** The whole values of the fields that a merge patch changes; sums and items of lists stay as they are. */
export function wholeValues(record: JsonObject, patch: JsonObject): JsonObject {
  if (!hasFieldChanges(patch)) return merged(record, patch);
  const { plain } = readFieldChanges(patch);
  return { ...patch, ...merged(record, plain) };
}
const merged = (record: JsonObject, patch: JsonObject): JsonObject =>
  Object.fromEntries(Object.entries(patch).map(([name, value]) => [name, mergePatch(own(record, name) ?? null, value)]));

/** @returns null where the change deletes the record, or there is none to change */
export function applied(
  record: LocalRecord | null,
  change: PendingChange,
  shape: Shape | undefined,
  me: string | null,
): LocalRecord | null {
  const { action, fields, at } = change;
  if (action === 'remove') return null;
  if (action === 'create') {
    // As the service will make it, so that the app's lists find it.
    const empty = Object.fromEntries(Object.entries(shape?.fields ?? {}).map(([name, type]) => [name, defaultOf(shape, name, type, at)]));
    return { ...empty, ...fields, id: change.record, createdAt: at, updatedAt: at, version: record?.version ?? 0, ownerId: me };
  }
  if (!record) return null;
  return { ...record, ...valuesOf(record, fields, change.collection, shape), updatedAt: at };
}

function valuesOf(record: JsonObject, fields: JsonObject, collection: string, shape: Shape | undefined): JsonObject {
  if (!hasFieldChanges(fields)) return fields;
  const { plain, changes } = readFieldChanges(fields);
  const known = new Map(Object.entries(shape?.fields ?? {}).map(([name, type]) => [name, { type: type as never }]));
  return { ...plain, ...(changes ? applyFieldChanges(collection, known, record, changes).values : {}) };
}

function defaultOf(shape: Shape | undefined, name: string, type: string, at: string): Json {
  const value = shape?.defaults?.[name] ?? null;
  if (value !== 'now()') return value;
  return type === 'date' ? at.slice(0, 10) : type === 'time' ? at : value;
}

/** One change in place of two of the same record, the first of which has not been sent. */
export function combined(first: PendingChange, fields: JsonObject, seen: JsonObject): Pick<PendingChange, 'fields' | 'seen'> {
  const sums = (name: '_add'): Json | undefined => {
    const [a, b] = [first.fields[name], fields[name]] as (JsonObject | undefined)[];
    if (!a || !b) return (a ?? b) as Json | undefined;
    const total: JsonObject = { ...a };
    for (const [field, delta] of Object.entries(b)) total[field] = ((total[field] as number | undefined) ?? 0) + (delta as number);
    return total;
  };
  const add = sums('_add');
  return { fields: { ...first.fields, ...fields, ...(add === undefined ? {} : { _add: add }) }, seen: { ...seen, ...first.seen } };
}

/** Whether a change can be made one with an earlier one: items of lists, and sums beside new values of a field, have an order. */
export function isCombinable(first: PendingChange, fields: JsonObject): boolean {
  if (first.fields._put || first.fields._drop || fields._put || fields._drop) return false;
  const names = (change: JsonObject) => [
    Object.keys(change).filter((name) => name !== '_add'),
    Object.keys((change._add as JsonObject | undefined) ?? {}),
  ];
  const [[plain, added], [nextPlain, nextAdded]] = [names(first.fields), names(fields)] as [[string[], string[]], [string[], string[]]];
  if (first.action === 'create') return nextAdded.length === 0;
  return !plain.some((name) => nextAdded.includes(name)) && !nextPlain.some((name) => added.includes(name));
}
