/** Filters over collections as SQL: names, joins for references, and access rules. */
import {
  type Condition,
  compileEvaluator,
  compileSql,
  type Evaluator,
  FilterError,
  type FilterNode,
  type FilterScope,
  parseFilter,
  analyseFilter,
  pathsOf,
  type RecordAction,
  type Slot,
  type Sql,
  type SqlNames,
  targetOfField,
  writeObjectPath,
} from '@orchard/core';
import type { Shapes } from './catalogue.js';
import { SEARCH_COLUMN, spatialColumn } from './columns.js';
import { type CollectionShape, kindIn, visibleNames } from './shape.js';

/** What a condition over a collection is checked against, also of one that does not exist yet. */
export type RuleGround = Pick<CollectionShape, 'name' | 'fields' | 'indexed'>;

/** The longest chain of references. */
const MAX_STEPS = 3;

/** The collection a reference leads to, or null. */
export function targetOf(shapes: Shapes, shape: RuleGround, field: string, withHidden: boolean): CollectionShape | null {
  const reference = shape.fields.get(field);
  const target = reference && targetOfField(reference);
  if (!target || (reference.hidden && !withHidden)) return null;
  return target === 'users' ? shapes.users : (shapes.collections.get(target) ?? null);
}

/** The names a filter over a collection may use; clients do not see hidden fields. */
export function scopeOf(shapes: Shapes, shape: RuleGround, withHidden: boolean): FilterScope {
  return {
    me: shapes.userFields,
    search: shape.indexed.searched,
    kindOf: (path) => {
      let at: RuleGround | null = shape;
      if (path.length > MAX_STEPS + 1) return null;
      for (const step of path.slice(0, -1)) at = at && targetOf(shapes, at, step, withHidden);
      return at && kindIn(at, path.at(-1) as string, withHidden);
    },
    *names() {
      for (const name of visibleNames(shape, withHidden)) {
        yield name;
        const target = targetOf(shapes, shape, name, withHidden);
        for (const inner of target ? visibleNames(target, withHidden) : []) yield `${name}.${inner}`;
      }
    },
  };
}

export type Rule = { tree: FilterNode; condition: Condition; evaluate: Evaluator; paths: string[] } | { broken: string };

/** A collection's rule, read once for these shapes. A rule that no longer fits the fields allows no one. */
export function ruleOf(shapes: Shapes, shape: CollectionShape, action: RecordAction): Rule {
  const key = `rule ${action} ${shape.name}`;
  const known = shapes.compiled.get(key) as Rule | undefined;
  if (known) return known;
  const rule = readRule(shapes, shape, shape.rules[action]);
  shapes.compiled.set(key, rule);
  return rule;
}

export const FIELD_RULES = ['setBy', 'seenBy'] as const;
/** Who may set a field, or see it. */
export type FieldRule = (typeof FIELD_RULES)[number];

/** A field's own rule, read once for these shapes. */
export function fieldRuleOf(shapes: Shapes, shape: CollectionShape, field: string, which: FieldRule): Rule | null {
  const text = shape.fields.get(field)?.[which];
  if (text === undefined) return null;
  const key = `${which} ${shape.name} ${field}`;
  const known = shapes.compiled.get(key) as Rule | undefined;
  if (known) return known;
  const rule = readRule(shapes, shape, text);
  shapes.compiled.set(key, rule);
  return rule;
}

/** A field that only some may see. */
export type Guard = { field: string; rule: Rule };

export function guardsOf(shapes: Shapes, shape: CollectionShape): Guard[] {
  const key = `guards ${shape.name}`;
  const known = shapes.compiled.get(key) as Guard[] | undefined;
  if (known) return known;
  const guards = [...shape.fields.keys()].flatMap((field) => {
    const rule = fieldRuleOf(shapes, shape, field, 'seenBy');
    return rule ? { field, rule } : [];
  });
  shapes.compiled.set(key, guards);
  return guards;
}

export function readRule(shapes: Shapes, shape: RuleGround, text: string): Rule {
  try {
    const tree = parseFilter(text);
    const condition = analyseFilter(tree, scopeOf(shapes, shape, true));
    return { tree, condition, evaluate: compileEvaluator(condition), paths: referencePaths(condition) };
  } catch (error) {
    if (error instanceof FilterError) return { broken: error.message };
    throw error;
  }
}

/** The references a condition follows, shorter ones first: `hut`, `hut.warden`. */
export function referencePaths(condition: Condition): string[] {
  const paths = new Set<string>();
  for (const path of pathsOf(condition)) for (let length = 1; length < path.length; length++) paths.add(path.slice(0, length).join('.'));
  return [...paths].sort((a, b) => a.split('.').length - b.split('.').length);
}

/** Collects the joins of one statement while its conditions are compiled. The collection itself is `t`. */
export class QueryBuilder {
  readonly #joins: Sql[] = [];
  readonly #aliases = new Map<string, string>();

  constructor(
    private readonly shapes: Shapes,
    private readonly shape: CollectionShape,
    private readonly base = 't',
  ) {}

  /** The joins, in the order in which they need each other. */
  get joins(): Sql {
    return { sql: this.#joins.map(({ sql }) => ` ${sql}`).join(''), slots: this.#joins.flatMap(({ slots }) => slots) };
  }

  /** Columns for conditions. Those of clients see only the referenced records that their read rules show, and the fields that they may see. */
  names(trusted: boolean): SqlNames {
    const { indexed } = this.shape;
    /** The field of the collection itself that a path names, where its index can serve. */
    const own = (path: readonly string[]): string | null => {
      const [field = ''] = path;
      const isGuarded = !trusted && this.shape.fields.get(field)?.seenBy !== undefined;
      return path.length === 1 && !isGuarded ? field : null;
    };
    const column = (name: string | undefined) => (name === undefined ? null : `${this.base}.\`${name}\``);
    return {
      column: (path) => `${this.#seenAlias(path, trusted)}.\`${path.at(-1)}\``,
      spatial: (path) => {
        const field = own(path);
        return column(field !== null && indexed.places.has(field) ? spatialColumn(field) : undefined);
      },
      inside: (path, keys, kind) => {
        const field = own(path);
        if (field === null || !(kind === 'text' || kind === 'number' || kind === 'boolean')) return null;
        return column(indexed.paths.get(writeObjectPath({ field, keys, kind })));
      },
      items: (path) => {
        const field = own(path);
        return column(field !== null && indexed.items.has(field) ? field : undefined);
      },
      search: () => `${this.base}.\`${SEARCH_COLUMN}\``,
    };
  }

  /** The row that a field is read from: of a field that only some may see, a row that is there for those alone. */
  #seenAlias(path: readonly string[], trusted: boolean): string {
    const owner = path.slice(0, -1);
    const from = this.#alias(owner, trusted);
    const target = trusted ? null : this.#target(owner);
    const rule = target && fieldRuleOf(this.shapes, target, path.at(-1) as string, 'seenBy');
    if (!target || !rule) return from;
    const key = `seen ${path.join('.')}`;
    const known = this.#aliases.get(key);
    if (known) return known;
    const alias = `${this.base}${this.#joins.length + 1}`;
    const guard = ruleSql(this.shapes, target, rule, alias);
    this.#joins.push({
      sql: `LEFT JOIN ${target.table} ${alias} ON ${alias}.id = ${from}.id${guard ? ` AND ${guard.sql}` : ''}`,
      slots: guard?.slots ?? [],
    });
    this.#aliases.set(key, alias);
    return alias;
  }

  /** The collection that a path of references leads to. */
  #target(path: readonly string[]): CollectionShape | null {
    let target: CollectionShape | null = this.shape;
    for (const step of path) target = target && targetOf(this.shapes, target, step, true);
    return target;
  }

  #alias(path: readonly string[], trusted: boolean): string {
    if (path.length === 0) return this.base;
    const key = `${trusted} ${path.join('.')}`;
    const known = this.#aliases.get(key);
    if (known) return known;
    const from = this.#seenAlias(path, trusted);
    const alias = `${this.base}${this.#joins.length + 1}`;
    const target = this.#target(path);
    const guard = trusted ? null : visibleSql(this.shapes, target as CollectionShape, alias);
    this.#joins.push({
      sql: `LEFT JOIN ${(target as CollectionShape).table} ${alias} ON ${alias}.id = ${from}.\`${path.at(-1)}\`${guard ? ` AND ${guard.sql}` : ''}`,
      slots: guard?.slots ?? [],
    });
    this.#aliases.set(key, alias);
    return alias;
  }
}

/** The read rule of a collection for the row `alias`; null if it allows everything. */
export const visibleSql = (shapes: Shapes, shape: CollectionShape, alias: string): Sql | null =>
  ruleSql(shapes, shape, ruleOf(shapes, shape, 'read'), alias);

/** A rule of the team for the row `alias`; null if it allows everything. */
export function ruleSql(shapes: Shapes, shape: CollectionShape, rule: Rule, alias: string): Sql | null {
  if ('broken' in rule) return { sql: 'FALSE', slots: [] };
  if (rule.condition.is === 'always' && rule.condition.value) return null;
  if (rule.paths.length === 0) {
    const { sql, slots } = compileSql(rule.condition, new QueryBuilder(shapes, shape, alias).names(true));
    return { sql: `(${sql})`, slots };
  }
  // A rule that follows references itself brings its own joins.
  const inner = new QueryBuilder(shapes, shape, `${alias}g`);
  const where = compileSql(rule.condition, inner.names(true));
  const { joins } = inner;
  return {
    sql: `EXISTS (SELECT 1 FROM ${shape.table} ${alias}g${joins.sql} WHERE ${alias}g.id = ${alias}.id AND (${where.sql}))`,
    slots: [...joins.slots, ...where.slots] as Slot[],
  };
}
