/** What an audit entry keeps of a change, and the text that its chain of MACs is computed over. */
import { isPlainObject, type JsonObject } from './json.js';

export type Difference = { before: unknown; after: unknown };

/**
 * What differs between two documents: of two objects, only the members that differ.
 * @returns null where nothing differs
 */
export function differenceOf(before: unknown, after: unknown): Difference | null {
  if (isSame(before, after)) return null;
  if (!isPlainObject(before) || !isPlainObject(after)) return { before, after };
  const names = [...new Set([...Object.keys(before), ...Object.keys(after)])];
  const changed = names.filter((name) => !isSame(before[name], after[name]));
  return changed.length === 0 ? null : { before: pick(before, changed), after: pick(after, changed) };
}

/** Documents of one presenter have their members in one order. */
const isSame = (a: unknown, b: unknown): boolean => JSON.stringify(a) === JSON.stringify(b);

const pick = (from: JsonObject, names: readonly string[]): JsonObject =>
  Object.fromEntries(names.flatMap((name) => (Object.hasOwn(from, name) && from[name] !== undefined ? [[name, from[name]]] : [])));

/**
 * Replaces members of a document that must not outlive their owner. A fingerprint stays, so that a change is still seen.
 * @param fingerprint of the text of a value
 */
export function withheld(document: JsonObject, names: readonly string[], fingerprint: (text: string) => string): JsonObject {
  return Object.fromEntries(
    Object.entries(document).map(([name, value]) => {
      const isEmpty = value === null || value === undefined;
      return [name, names.includes(name) && !isEmpty ? { withheld: fingerprint(JSON.stringify(value)) } : value];
    }),
  );
}

/** An audit entry as it is stored, apart from its MAC. */
export type AuditText = {
  /** From 1, without gaps. */
  number: number;
  id: string;
  /** RFC 3339, UTC, with milliseconds. */
  at: string;
  actor: string;
  address: string | null;
  request: string | null;
  app: string | null;
  environment: string | null;
  action: string;
  kind: string;
  subject: string;
  outcome: string;
  /** JSON. */
  before: string | null;
  after: string | null;
};

/**
 * The text that an entry's MAC is computed over: its parts in a fixed order, and the MAC of the entry before it.
 * @param database which chain it is, so that an entry cannot be moved to another one
 */
export const chainedText = (database: string, entry: AuditText, previousMac: string): string =>
  JSON.stringify([
    database,
    entry.number,
    entry.id,
    entry.at,
    entry.actor,
    entry.address,
    entry.request,
    entry.app,
    entry.environment,
    entry.action,
    entry.kind,
    entry.subject,
    entry.outcome,
    entry.before,
    entry.after,
    previousMac,
  ]);
