/** The setup of an environment as it is, and wanted setups as they were sent. */
import { createHash } from 'node:crypto';
import { Problem, SETUP_FORMAT, SETUP_KINDS, type SetupKind, setupFile, setupKinds } from '@orchard/contract';
import { checkInput } from '@orchard/contract/inputProblems';
import {
  type AccessRules,
  canonical,
  type FieldProblem,
  isPlainObject,
  type Json,
  type JsonObject,
  ONE,
  presetOf,
  type SetupParts,
} from '@orchard/core';
import { isGone } from '../../platform/database/errors.js';
import type { SetupCalls } from './calls.js';
import { KIND_WAYS } from './kinds/index.js';

/** Every part that there is, by kind and name. @throws {Problem} setup-changed */
export async function readSetup(calls: SetupCalls): Promise<SetupParts> {
  const all = await Promise.all(
    setupKinds.map(async (kind) => [kind, await unlessTakenAway(kind, () => KIND_WAYS[kind].read(calls))] as const),
  );
  return Object.fromEntries(all);
}

const NOT_FOUND = 404;

/**
 * A setup is read in several calls: what one of them named may be gone by the next.
 * @param what kind or part, for the message @throws {Problem} setup-changed
 */
export async function unlessTakenAway<T>(what: string, read: () => Promise<T>): Promise<T> {
  try {
    return await read();
  } catch (error) {
    if (error instanceof Problem ? error.status === NOT_FOUND : isGone(error))
      throw new Problem('setup-changed', `Somebody took away ${what} while the setup was read. Compare again.`);
    throw error;
  }
}

const MOST_TRIES = 3;

/** Reads anew where the setup changed meanwhile. @throws {Problem} setup-changed, after three tries */
export async function inOnePiece<T>(read: () => Promise<T>): Promise<T> {
  for (let tries = 1; ; tries++) {
    try {
      return await read();
    } catch (error) {
      if (!(error instanceof Problem && error.problem === 'setup-changed') || tries === MOST_TRIES) throw error;
    }
  }
}

/** The same text for the same setup. */
export const digestOf = (setup: SetupParts): string =>
  createHash('sha256')
    .update(canonical(setup as unknown as Json))
    .digest('hex');

/** Parts as in a setup file: what an environment has once stands without a name. Kinds without parts are left out. */
export function asFile(parts: SetupParts): JsonObject {
  const kinds = setupKinds.flatMap((kind) => {
    const of = parts[kind] ?? {};
    if (SETUP_KINDS[kind].of === 'one') return of[ONE] ? [[kind, of[ONE]]] : [];
    if (Object.keys(of).length === 0) return [];
    return [[kind, kind === 'collections' ? Object.fromEntries(Object.entries(of).map(([name, part]) => [name, withPresets(part)])) : of]];
  });
  return { setup: SETUP_FORMAT, ...Object.fromEntries(kinds) };
}

/** Rules by their short names, where they have one. */
function withPresets(collection: JsonObject): JsonObject {
  const rules = Object.entries(collection.rules as AccessRules).map(([action, rule]) => [action, presetOf(rule) ?? rule]);
  return { ...collection, rules: Object.fromEntries(rules) };
}

/**
 * A setup file as parts, with its defaults.
 * @throws {Problem} setup-invalid, with every member that cannot be
 */
export function readFile(file: JsonObject): SetupParts {
  if (typeof file.setup === 'number' && file.setup > SETUP_FORMAT)
    throw refused([
      {
        path: 'setup',
        problem: `The file has the form ${file.setup}, which a later version of this service writes; this one reads ${SETUP_FORMAT}.`,
        expected: String(SETUP_FORMAT),
      },
    ]);
  const problems: FieldProblem[] = [];
  const checked = checkInput(setupFile, { setup: SETUP_FORMAT, ...file }, '', problems) as { [kind: string]: JsonObject } | undefined;
  if (problems.length > 0 || !checked) throw refused(problems);
  return Object.fromEntries(
    setupKinds.flatMap((kind) => {
      const part = checked[kind];
      if (part === undefined) return [];
      return [[kind, SETUP_KINDS[kind].of === 'one' ? { [ONE]: defined(part) } : (defined(part) as { [name: string]: JsonObject })]];
    }),
  );
}

export const refused = (fields: FieldProblem[]): Problem => {
  const [first] = fields;
  const more = fields.length > 1 ? ` And ${fields.length - 1} more, see \`fields\`.` : '';
  return new Problem('setup-invalid', `\`${first?.path}\`: ${first?.problem}${more}`, { fields });
};

/** Without members that are undefined, at every level. */
function defined<T extends Json>(value: T): T {
  if (Array.isArray(value)) return value.map(defined) as T;
  if (!isPlainObject(value)) return value;
  return Object.fromEntries(Object.entries(value).flatMap(([name, inner]) => (inner === undefined ? [] : [[name, defined(inner)]]))) as T;
}

/** Wanted parts in the form in which they are compared. */
export function comparable(parts: SetupParts): SetupParts {
  return Object.fromEntries(
    Object.entries(parts).map(([kind, named]) => {
      const { normal } = KIND_WAYS[kind as SetupKind];
      if (!normal) return [kind, named];
      return [kind, Object.fromEntries(Object.entries(named).map(([name, part]) => [name, normal(part, name)]))];
    }),
  );
}
