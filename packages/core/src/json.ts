/** JSON values (RFC 8259) and the merge of two of them. */
export type Json = string | number | boolean | null | Json[] | JsonObject;
export type JsonObject = { [key: string]: Json };

/** Without the members that are undefined: what a change leaves out stays as it was. */
export const definedIn = <T extends object>(value: T) =>
  Object.fromEntries(Object.entries(value).filter(([, one]) => one !== undefined)) as { [K in keyof T]?: Exclude<T[K], undefined> };

export function isPlainObject(value: unknown): value is JsonObject {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

/** An object's own member; never one that its prototype has. For names that come from outside, such as `constructor`. */
export const own = <T>(object: { readonly [name: string]: T }, name: string): T | undefined =>
  Object.hasOwn(object, name) ? object[name] : undefined;

/** Deepest JSON that is worked on: filters as JSON nest deepest, 40 levels of two each. */
const MAX_NESTING = 100;

/** What makes any value invalid: nested too deep to process, or text that is not Unicode. Null for a valid one. */
export function jsonFault(value: Json, depth = MAX_NESTING): string | null {
  if (typeof value === 'string') return value.isWellFormed() ? null : 'A text holds half of a surrogate pair, which is not Unicode.';
  if (typeof value !== 'object' || value === null) return null;
  if (depth === 0) return `It nests more than ${MAX_NESTING} lists and objects into each other.`;
  if (Array.isArray(value)) {
    for (const inner of value) {
      const fault = jsonFault(inner, depth - 1);
      if (fault) return fault;
    }
    return null;
  }
  for (const name of Object.keys(value)) {
    const fault = jsonFault(name) ?? jsonFault(value[name] as Json, depth - 1);
    if (fault) return fault;
  }
  return null;
}

/** MariaDB reads JSON nested up to 32 levels; the column itself is one of them. */
const MAX_DEPTH = 30;

/** Whether a value nests at most `depth` lists and objects into each other. */
export function isShallow(value: Json, depth = MAX_DEPTH): boolean {
  if (typeof value !== 'object' || value === null) return true;
  return depth > 0 && Object.values(value).every((inner) => isShallow(inner, depth - 1));
}

/**
 * JSON Merge Patch, the procedure of RFC 7396 section 2. Neither argument is changed.
 * Members are copied with defineProperty, so that a patch naming `__proto__` is only data.
 */
export function mergePatch(target: Json, patch: Json): Json {
  if (!isPlainObject(patch)) return patch;
  const result: JsonObject = {};
  const set = (key: string, value: Json) =>
    Object.defineProperty(result, key, { value, enumerable: true, writable: true, configurable: true });
  if (isPlainObject(target)) for (const [key, value] of Object.entries(target)) set(key, value);
  for (const [key, value] of Object.entries(patch)) {
    if (value === null) delete result[key];
    else set(key, mergePatch(Object.hasOwn(result, key) ? (result[key] as Json) : null, value));
  }
  return result;
}

/** The merge patch (RFC 7396) that makes one value another. A null inside an object cannot be told by one, and is left out. */
export function patchTo(from: Json, to: Json): Json {
  if (!isPlainObject(from) || !isPlainObject(to)) return to;
  const patch: JsonObject = {};
  const set = (key: string, value: Json) =>
    Object.defineProperty(patch, key, { value, enumerable: true, writable: true, configurable: true });
  for (const key of Object.keys(from)) if (!Object.hasOwn(to, key)) set(key, null);
  for (const [key, value] of Object.entries(to)) {
    const before = Object.hasOwn(from, key) ? (from[key] as Json) : undefined;
    if (before === undefined || JSON.stringify(before) !== JSON.stringify(value)) set(key, patchTo(before ?? null, value));
  }
  return patch;
}
