/**
 * Three-way merge of one record, field by field: what a device changed, from what it saw, into what the service holds now. The
 * service and the client library merge by this one function.
 */
import type { MergePolicy } from '../fieldTypes.js';
import { type Json, type JsonObject, own } from '../json.js';

/** A field that both sides changed, to different values. */
export type FieldConflict = {
  field: string;
  /** What the device wanted, and what the service has. */
  device: Json;
  service: Json;
  /** What stands there now. */
  kept: Json;
};
/** `values`: what is to be written over the service's record; empty where nothing is. */
export type Merged = { values: JsonObject; conflicts: FieldConflict[] };

/**
 * @param seen the values that the device saw of the fields it changed; a field that is missing had no value
 * @param device the values it gave them
 * @param service the record as it stands
 * @param policyOf how a conflict of a field is settled
 */
export function mergeFields(
  seen: JsonObject,
  device: JsonObject,
  service: JsonObject,
  policyOf: (field: string) => MergePolicy | undefined,
): Merged {
  const merged: Merged = { values: {}, conflicts: [] };
  for (const [field, wanted] of Object.entries(device)) {
    const [was, is] = [own(seen, field) ?? null, own(service, field) ?? null];
    if (isEqual(wanted, is)) continue;
    if (isEqual(was, is)) {
      merged.values[field] = wanted;
      continue;
    }
    const kept = settle(policyOf(field) ?? 'service', was, wanted, is);
    if (!isEqual(kept, is)) merged.values[field] = kept;
    merged.conflicts.push({ field, device: wanted, service: is, kept });
  }
  return merged;
}

function settle(policy: MergePolicy, was: Json, device: Json, service: Json): Json {
  switch (policy) {
    case 'service':
      return service;
    case 'device':
      return device;
    case 'larger':
    case 'smaller':
      if (device === null || service === null) return device ?? service;
      return device > service === (policy === 'larger') ? device : service;
    case 'union':
      return union(listOf(was), listOf(device), listOf(service));
  }
}

const listOf = (value: Json): Json[] => (Array.isArray(value) ? value : []);

/** The service's list, without what the device took out, and with what it put in. */
function union(was: Json[], device: Json[], service: Json[]): Json[] {
  const [before, after, there] = [was, device, service].map((list) => new Set(list.map(canonical))) as [
    Set<string>,
    Set<string>,
    Set<string>,
  ];
  const kept = service.filter((item) => after.has(canonical(item)) || !before.has(canonical(item)));
  const added = device.filter((item) => !there.has(canonical(item)) && !before.has(canonical(item)));
  return [...kept, ...added];
}

/** Whether two values are the same JSON, in whatever order members stand. */
export const isEqual = (a: Json, b: Json): boolean =>
  a === b || (typeof a === 'object' && typeof b === 'object' && canonical(a) === canonical(b));

const canonical = (value: Json): string =>
  JSON.stringify(value, (_name, one) =>
    typeof one === 'object' && one !== null && !Array.isArray(one)
      ? Object.fromEntries(Object.entries(one).sort(([a], [b]) => (a < b ? -1 : 1)))
      : one,
  );
