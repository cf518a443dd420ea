/**
 * A filter after its names and types were checked: what both back ends, SQL and memory, work from. Derived forms are
 * reduced: BETWEEN, temporal predicates and array equality become comparisons and containment.
 */
import type { Edge, Position } from './geometry.js';
import type { PatternPart } from './folding.js';
import type { SearchWords } from './search.js';
import type { Comparison } from './tree.js';

export const VALUE_KINDS = ['text', 'number', 'boolean', 'date', 'time', 'place', 'list', 'object'] as const;
/** What a field holds, for filters. */
export type ValueKind = (typeof VALUE_KINDS)[number];

/** One step of a path inside an object. */
export const OBJECT_STEP = /^[\p{L}\p{N}_-]{1,100}$/u;

/** The fields a filter may name. A path has more than one part where references are followed. */
export type FilterScope = {
  kindOf(path: readonly string[]): ValueKind | null;
  /** Names to suggest for a misspelt one. */
  names(): Iterable<string>;
  /** Functions that this scope alone has, by name. They take constants, and their value is looked up like that of a field. */
  functions?: ReadonlyMap<string, ScopeFunction>;
  /** The caller's own fields that `me('…')` may name, besides id and roles. */
  me?: ReadonlyMap<string, ValueKind>;
  /** The fields that `search('…')` looks into; empty where the collection could have a search index and has none. */
  search?: readonly string[];
};
export type ScopeFunction = {
  kind: ValueKind;
  /** Says what is wrong with the arguments, or nothing. */
  check(args: readonly Scalar[]): string | null;
};

/** Constants: texts, numbers and booleans as they are, dates as `2026-07-14`, times as milliseconds since 1970. */
export type Term =
  | { is: 'constant'; kind: ValueKind; value: string | number | boolean | Position }
  | { is: 'field'; kind: ValueKind; path: readonly string[] }
  /** What lies inside an object: `kind` is what it is compared with; `object` where any value counts. Without `path`: inside an item. */
  | { is: 'inside'; kind: ValueKind; path: readonly string[]; keys: readonly string[] }
  | { is: 'called'; kind: ValueKind; name: string; args: readonly Scalar[] }
  | { is: 'me'; kind: 'text' }
  | { is: 'myRoles'; kind: 'list' }
  | { is: 'myField'; kind: ValueKind; name: string }
  | { is: 'now'; kind: 'time' }
  | { is: 'arithmetic'; kind: 'number'; operator: '+' | '-' | '*' | '/' | '%' | 'div'; left: Term; right: Term }
  | { is: 'folded'; kind: 'text'; letters: 'case' | 'accents'; of: Term }
  | { is: 'midnight'; kind: 'time'; of: Term }
  | { is: 'distance'; kind: 'number'; from: Term; to: Term }
  /** How well a record answers a search, for sorting; only the database knows. */
  | { is: 'relevance'; kind: 'number'; words: SearchWords };

export type Scalar = string | number | boolean;
export type Condition =
  | { is: 'always'; value: boolean }
  | { is: 'all' | 'any'; parts: Condition[] }
  | { is: 'not'; part: Condition }
  | { is: 'compare'; operator: Comparison; left: Term; right: Term }
  | { is: 'null'; of: Term }
  | { is: 'like'; of: Term; pattern: PatternPart[] }
  | { is: 'oneOf'; of: Term; items: Term[] }
  | { is: 'samePlace'; left: Term; right: Term }
  | { is: 'insideBox'; of: Term; bounds: readonly [number, number, number, number]; boundary: boolean }
  | { is: 'insidePolygon'; of: Term; rings: Position[][]; edges: Edge[]; boundary: boolean }
  /** Whether the list holds the item; an inner list counts by its own items. */
  | { is: 'holds'; list: Term; item: Scalar }
  /** Whether every item of the list is one of these. */
  | { is: 'within'; list: Term; items: Scalar[] }
  /** Whether the list shares an item with the caller's roles. */
  | { is: 'sharesRoles'; list: Term; how: 'any' | 'all' | 'within' }
  /** Whether an object of the list, or each of them, fits a condition over its own members, whose paths begin at nothing. */
  | { is: 'each'; list: Term; how: 'any' | 'all'; condition: Condition }
  /** Whether the texts of these fields, taken together, hold the words. */
  | { is: 'found'; fields: readonly string[]; words: SearchWords };

/** A scope of plain fields without references; a name may have dots. */
export function flatScope(kinds: ReadonlyMap<string, ValueKind>, functions?: FilterScope['functions']): FilterScope {
  return {
    ...(functions ? { functions } : {}),
    kindOf: (path) => kinds.get(path.join('.')) ?? null,
    names: () => kinds.keys(),
  };
}

/** Every field path a condition reads. */
export function pathsOf(condition: Condition): (readonly string[])[] {
  const paths: (readonly string[])[] = [];
  visitTerms(condition, (term) => {
    if (term.is === 'field' || term.is === 'inside') paths.push(term.path);
  });
  return paths;
}

/** The functions of its scope that a condition calls, with their arguments. */
export function callsOf(condition: Condition): Extract<Term, { is: 'called' }>[] {
  const calls: Extract<Term, { is: 'called' }>[] = [];
  visitTerms(condition, (term) => {
    if (term.is === 'called') calls.push(term);
  });
  return calls;
}

/** Calls `seen` for every term, nested ones included. */
export function visitTerms(condition: Condition, seen: (term: Term) => void): void {
  const term = (one: Term): void => {
    seen(one);
    if (one.is === 'arithmetic') [one.left, one.right].forEach(term);
    else if (one.is === 'distance') [one.from, one.to].forEach(term);
    else if (one.is === 'folded' || one.is === 'midnight') term(one.of);
  };
  switch (condition.is) {
    case 'always':
      return;
    case 'found':
      for (const name of condition.fields) term({ is: 'field', kind: 'text', path: [name] });
      return;
    case 'all':
    case 'any':
      for (const part of condition.parts) visitTerms(part, seen);
      return;
    case 'not':
      return visitTerms(condition.part, seen);
    case 'compare':
    case 'samePlace':
      return [condition.left, condition.right].forEach(term);
    case 'oneOf':
      return [condition.of, ...condition.items].forEach(term);
    case 'holds':
    case 'within':
    case 'sharesRoles':
    // The members of an item are no fields.
    case 'each':
      return term(condition.list);
    default:
      return term(condition.of);
  }
}
