/** JSON values (RFC 8259) and the merge of two of them. */
export type Json = string | number | boolean | null | Json[] | JsonObject;
export type JsonObject = { [key: string]: Json };

export function isPlainObject(value: unknown): value is JsonObject {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
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
