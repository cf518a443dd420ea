/** Queries on the local copy: the service's filters, sorting and paging, with the indexes that a scope asks for. */
import { KIND_OF_TYPE, SYSTEM_KINDS } from '@orchard/core/fieldTypes';
import {
  type Asking,
  analyseFilter,
  compareText,
  compileEvaluator,
  type Evaluator,
  type FilterScope,
  type Node,
  readFilterText,
  type ValueKind,
} from '@orchard/core/filter';
import type { Json } from '@orchard/core';
import type { LocalRecord, Shape } from './types.js';

export type LocalQuery = {
  filter?: string | undefined;
  sort?: string | undefined;
  limit?: number | undefined;
  cursor?: string | undefined;
};
export type Page = { items: LocalRecord[]; next?: string };
/** What a query needs of a collection. */
export type Searched = {
  /** All of its records. */
  all: () => Iterable<LocalRecord>;
  size: number;
  /** Records whose field has one of these values; null where it has no index. */
  having: (field: string, values: readonly Json[]) => LocalRecord[] | null;
};
type Compiled = { evaluate: Evaluator | null; paths: string[]; equal: { field: string; values: Json[] }[] };

const kindIn = (shape: Shape | undefined, name: string): ValueKind | null => {
  const system = SYSTEM_KINDS.get(name);
  if (system) return system;
  const type = shape && Object.hasOwn(shape.fields, name) ? shape.fields[name] : undefined;
  return type ? KIND_OF_TYPE[type as keyof typeof KIND_OF_TYPE] : null;
};

/** What a value is to a filter, where nobody says what its field holds. */
const kindOfValue = (value: Json | undefined): ValueKind =>
  typeof value === 'number' ? 'number' : typeof value === 'boolean' ? 'boolean' : Array.isArray(value) ? 'list' : 'text';

/** Compiled filters of one shape of a collection and those it refers to. */
export class Filters {
  readonly #known = new Map<string, Compiled>();

  /** @param shapeOf the shape of a collection; undefined where the device does not have it */
  constructor(
    private readonly collection: string,
    private readonly shapeOf: (collection: string) => Shape | undefined,
    private readonly me: () => Asking['me'],
    /** Some value that a field has on the device: until the service has said what it holds. */
    private readonly sampleOf: (collection: string, field: string) => Json | undefined,
  ) {}

  /** @throws {FilterError} */
  read(filter: string): Compiled {
    let compiled = this.#known.get(filter);
    if (!compiled) {
      const tree = readFilterText(filter);
      const condition = analyseFilter(tree, this.#scope());
      compiled = { evaluate: compileEvaluator(condition), paths: referencesIn(tree), equal: equalities(tree) };
      this.#known.set(filter, compiled);
    }
    return compiled;
  }

  kindOf(path: readonly string[]): ValueKind | null {
    let collection: string | undefined = this.collection;
    for (const step of path.slice(0, -1)) collection = collection && this.shapeOf(collection)?.references[step];
    if (!collection) return null;
    const [shape, name] = [this.shapeOf(collection), path.at(-1) as string];
    return kindIn(shape, name) ?? (shape ? null : kindOfValue(this.sampleOf(collection, name)));
  }

  #scope(): FilterScope {
    const shape = this.shapeOf(this.collection);
    const own = this.me().fields ?? {};
    const kinds = Object.entries(own).map(([name, value]): [string, ValueKind] => [name, kindOfValue(value)]);
    return {
      me: new Map(kinds),
      kindOf: (path) => this.kindOf(path),
      names: () => [...SYSTEM_KINDS.keys(), ...Object.keys(shape?.fields ?? {})],
    };
  }
}

/** Paths of references that a filter follows, such as `hut` of `hut.region`. */
function referencesIn(node: Node, found: string[] = []): string[] {
  if (node.kind === 'property' && node.name.includes('.')) {
    const steps = node.name.split('.').slice(0, -1);
    for (let i = 1; i <= steps.length; i++) found.push(steps.slice(0, i).join('.'));
  }
  for (const inner of node.kind === 'call' ? node.args : node.kind === 'array' ? node.items : []) referencesIn(inner, found);
  return [...new Set(found)];
}

/** Fields that must have one of some values for the whole filter to be true. */
function equalities(node: Node): Compiled['equal'] {
  if (node.kind !== 'call') return [];
  if (node.op === 'and') return node.args.flatMap(equalities);
  if (node.op !== '=' && node.op !== 'in') return [];
  const [of, to] = node.args as [Node, Node];
  if (of.kind !== 'property') return [];
  const items = to.kind === 'array' ? to.items : [to];
  const values = items.flatMap((item) => (item.kind === 'literal' ? [item.value] : []));
  return values.length === items.length ? [{ field: of.name, values }] : [];
}

type Term = { field: string; descending: boolean; kind: ValueKind | null };
const termsOf = (sort: string | undefined, filters: Filters): Term[] => {
  const terms = (sort ?? '')
    .split(',')
    .map((text) => text.trim())
    .filter(Boolean)
    .map((text) => ({ field: text.replace(/^-/, ''), descending: text.startsWith('-') }));
  return [...terms, ...(terms.some(({ field }) => field === 'id') ? [] : [{ field: 'id', descending: false }])].map((term) => ({
    ...term,
    kind: filters.kindOf([term.field]),
  }));
};

/** Missing values come first, as in the service. */
function compare(a: LocalRecord, b: LocalRecord, terms: readonly Term[]): number {
  for (const { field, descending, kind } of terms) {
    const [left, right] = [a[field] ?? null, b[field] ?? null];
    const difference =
      left === right
        ? 0
        : left === null
          ? -1
          : right === null
            ? 1
            : kind === 'text'
              ? compareText(left as string, right as string)
              : left < right
                ? -1
                : left > right
                  ? 1
                  : 0;
    if (difference !== 0) return descending ? -difference : difference;
  }
  return 0;
}

/** @param related the record that a reference leads to, by path; null where the device does not have it */
export function query(
  searched: Searched,
  filters: Filters,
  asking: Asking,
  { filter, sort, limit = 50, cursor }: LocalQuery,
  related: (record: LocalRecord, path: string) => LocalRecord | null,
): Page {
  const compiled = filter?.trim() ? filters.read(filter) : null;
  const found: LocalRecord[] = [];
  for (const record of candidates(searched, compiled)) if (!compiled || passes(compiled, record, asking, related)) found.push(record);
  const terms = termsOf(sort, filters);
  found.sort((a, b) => compare(a, b, terms));
  const after = cursor ? (JSON.parse(cursor) as LocalRecord) : null;
  const from = after ? found.findIndex((record) => compare(record, after, terms) > 0) : 0;
  if (from < 0) return { items: [] };
  const items = found.slice(from, from + limit);
  const last = from + limit < found.length ? items.at(-1) : undefined;
  return { items, ...(last ? { next: JSON.stringify(Object.fromEntries(terms.map(({ field }) => [field, last[field] ?? null]))) } : {}) };
}

/** Whether a record fits; arithmetic out of range is unknown, as in the service. */
export function passes(
  { evaluate, paths }: Compiled,
  record: LocalRecord,
  asking: Asking,
  related: (record: LocalRecord, path: string) => LocalRecord | null,
): boolean {
  if (!evaluate) return true;
  try {
    const others = paths.length > 0 ? new Map(paths.map((path) => [path, related(record, path)])) : undefined;
    return evaluate(record, asking, others) === true;
  } catch (error) {
    if (error instanceof RangeError) return false;
    throw error;
  }
}

/** The fewest records that an index leaves; all, without one. */
function candidates({ all, having, size }: Searched, compiled: Compiled | null): Iterable<LocalRecord> {
  let best: LocalRecord[] | null = null;
  for (const { field, values } of compiled?.equal ?? []) {
    const some = having(field, values);
    if (some && some.length < (best?.length ?? size)) best = some;
  }
  return best ?? all();
}
