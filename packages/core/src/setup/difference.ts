/**
 * What differs between two setups. A setup holds parts: by their kind (`collections`, `topics`, …) and their name, each a
 * document. Settings that an environment has once are the part without a name of their kind.
 */
import { isPlainObject, type Json, type JsonObject, own } from '../json.js';

/** Parts by kind and name; {@link ONE} stands for the name of settings. */
export type SetupParts = { [kind: string]: { [name: string]: JsonObject } };
/** The name of what an environment has once. */
export const ONE = '';

export type SetupPoint = {
  /** Members from the document down to what differs. */
  path: string[];
  /** Absent where there was nothing. */
  before?: Json;
  /** Absent where there is nothing any more. */
  after?: Json;
};
export type SetupChange = {
  kind: string;
  name: string;
  action: 'make' | 'change' | 'drop';
  before: JsonObject | null;
  after: JsonObject | null;
  /** What differs inside a changed document, in the order of its members. */
  points: SetupPoint[];
  /** Of a collection: former names of fields, by the new ones. */
  renames: { [field: string]: string };
};

/** A wanted name that cannot be told from what is there. */
export class SetupConflict extends Error {
  constructor(
    readonly path: string[],
    message: string,
  ) {
    super(message);
    this.name = 'SetupConflict';
  }
}

/**
 * @param wanted a kind that it does not have is left as it is; a kind that it has is complete, apart from settings, of which only the given
 * members count
 * @param order kinds, each after those that it refers to
 * @throws {SetupConflict} where `was` names a field that is there beside the new one
 */
export function compareSetups(now: SetupParts, wanted: SetupParts, order: readonly string[]): SetupChange[] {
  return order.flatMap((kind) => {
    const after = wanted[kind];
    if (!after) return [];
    const before = now[kind] ?? {};
    const names = [...new Set([...Object.keys(before), ...Object.keys(after)])];
    return names.flatMap((name) => changeOf(kind, name, own(before, name) ?? null, own(after, name) ?? null) ?? []);
  });
}

function changeOf(kind: string, name: string, before: JsonObject | null, given: JsonObject | null): SetupChange | null {
  if (!given) return before && name !== ONE ? { kind, name, action: 'drop', before, after: null, points: [], renames: {} } : null;
  const renames = renamesOf(kind, name, before, given);
  const stated = withoutFormerNames(given);
  const after = name === ONE ? { ...before, ...stated } : stated;
  if (!before) return { kind, name, action: 'make', before, after, points: [], renames: {} };
  const points = pointsBetween(renamed(before, renames), after);
  if (points.length === 0 && Object.keys(renames).length === 0) return null;
  return { kind, name, action: 'change', before, after, points, renames };
}

/** `was` of fields: it counts while only the former name is there. */
function renamesOf(kind: string, name: string, before: JsonObject | null, given: JsonObject): { [field: string]: string } {
  const [fields, present] = [given.fields, before?.fields];
  if (!isPlainObject(fields) || !isPlainObject(present)) return {};
  return Object.fromEntries(
    Object.entries(fields).flatMap(([field, definition]) => {
      const was = isPlainObject(definition) ? definition.was : undefined;
      if (typeof was !== 'string' || !Object.hasOwn(present, was)) return [];
      if (Object.hasOwn(fields, was))
        throw new SetupConflict(
          [kind, name, 'fields', field, 'was'],
          `\`${was}\` is a field of \`${name}\` that is kept, so \`${field}\` cannot be its new name.`,
        );
      if (Object.hasOwn(present, field))
        throw new SetupConflict(
          [kind, name, 'fields', field, 'was'],
          `\`${name}\` has both \`${was}\` and \`${field}\`. Drop one of them first, or leave out \`was\`.`,
        );
      return [[field, was]];
    }),
  );
}

function withoutFormerNames(document: JsonObject): JsonObject {
  if (!isPlainObject(document.fields)) return document;
  const fields = Object.fromEntries(
    Object.entries(document.fields).map(([name, field]) => {
      if (!isPlainObject(field)) return [name, field];
      const { was: _, ...definition } = field;
      return [name, definition];
    }),
  );
  return { ...document, fields };
}

/** A document after its fields were renamed; indexes go with their fields. */
export function renamed(document: JsonObject, renames: { [field: string]: string }): JsonObject {
  if (!isPlainObject(document.fields) || Object.keys(renames).length === 0) return document;
  const now = new Map(Object.entries(renames).map(([field, was]) => [was, field]));
  const nameNow = (name: string) => now.get(name) ?? name;
  const fields = Object.fromEntries(Object.entries(document.fields).map(([name, field]) => [nameNow(name), field]));
  const indexes = (Array.isArray(document.indexes) ? document.indexes : []).map((index) =>
    isPlainObject(index) && Array.isArray(index.fields) ? { ...index, fields: index.fields.map((name) => nameNow(String(name))) } : index,
  );
  return { ...document, fields, indexes };
}

/** What differs between two documents. Members count in any order; lists and texts are one value each. */
export function pointsBetween(before: Json, after: Json, path: string[] = []): SetupPoint[] {
  if (!isPlainObject(before) || !isPlainObject(after)) return sameJson(before, after) ? [] : [{ path, before, after }];
  const names = [...new Set([...Object.keys(before), ...Object.keys(after)])];
  return names.flatMap((name) => {
    const at = [...path, name];
    if (!Object.hasOwn(after, name)) return [{ path: at, before: before[name] as Json }];
    if (!Object.hasOwn(before, name)) return [{ path: at, after: after[name] as Json }];
    return pointsBetween(before[name] as Json, after[name] as Json, at);
  });
}

/** Whether two values are the same JSON, whatever the order of members. */
export const sameJson = (a: Json, b: Json): boolean => canonical(a) === canonical(b);

/** JSON with members in the order of their names: the same text for the same value. */
export function canonical(value: Json): string {
  if (Array.isArray(value)) return `[${value.map(canonical).join(',')}]`;
  if (!isPlainObject(value)) return JSON.stringify(value);
  const members = Object.keys(value)
    .sort()
    .filter((name) => value[name] !== undefined)
    .map((name) => `${JSON.stringify(name)}:${canonical(value[name] as Json)}`);
  return `{${members.join(',')}}`;
}

/** Dropped fields that may be the former names of added ones, which the wanted setup does not say. */
export function likelyRenames({ before, after, points }: SetupChange): { field: string; was: string }[] {
  const [old, fresh] = [before?.fields, after?.fields];
  if (!isPlainObject(old) || !isPlainObject(fresh)) return [];
  const ofField = points.filter(({ path }) => path.length === 2 && path[0] === 'fields');
  const dropped = ofField.filter((point) => !('after' in point)).map(({ path }) => path[1] as string);
  const added = ofField.filter((point) => !('before' in point)).map(({ path }) => path[1] as string);
  const typeOf = (fields: JsonObject, name: string) => (fields[name] as JsonObject | undefined)?.type;
  return added.flatMap((field) => {
    const was = dropped.filter((name) => typeOf(old, name) === typeOf(fresh, field));
    return was.length === 1 ? [{ field, was: was[0] as string }] : [];
  });
}

/**
 * The parts of a setup that were chosen.
 * @param only kinds, or kind and name with `/` between; all where it is empty
 */
export function chosenParts(setup: SetupParts, now: SetupParts, only: readonly string[]): SetupParts {
  if (only.length === 0) return setup;
  const chosen: SetupParts = {};
  for (const [kind, parts] of Object.entries(setup)) {
    if (only.includes(kind)) chosen[kind] = parts;
    else {
      const named = (name: string) => only.includes(`${kind}/${name}`);
      const known = new Set([...Object.keys(parts), ...Object.keys(now[kind] ?? {})]);
      if (![...known].some(named)) continue;
      // Those that were not chosen stay as they are.
      const from = (name: string) => (named(name) ? parts : (now[kind] ?? {}));
      chosen[kind] = Object.fromEntries(
        [...known].flatMap((name) => {
          const part = own(from(name), name);
          return part ? [[name, part]] : [];
        }),
      );
    }
  }
  return chosen;
}
