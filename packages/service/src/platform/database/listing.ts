/** Lists: filter, sort and keyset cursor as SQL, the same for every table. */
import type { Statements } from './connection.js';
import { createHmac, timingSafeEqual } from 'node:crypto';
import type { SqlCondition } from './sqlCondition.js';
import pLimit from 'p-limit';
import { Problem } from '@orchard/contract';
import {
  type Asking,
  analyseTerm,
  type Condition,
  bindSlots,
  compileSql,
  compileTermSql,
  FilterError,
  type FilterScope,
  flatScope,
  nearest,
  parseFilter,
  readFilter,
  type Scalar,
  type ScopeFunction,
  type SearchWords,
  type Slot,
  type Sql,
  type SqlNames,
  splitTerms,
  type ValueKind,
} from '@orchard/core';

/** Functions that a list has besides those of every filter. */
export type ListFunctions = ReadonlyMap<string, ScopeFunction & { sql: (args: readonly Scalar[]) => SqlCondition }>;
export type ColumnKind = 'text' | 'number' | 'boolean' | 'date' | 'time' | 'list' | 'other';
/** Fields for filtering and sorting a list of our own tables: the SQL and type of each. */
export type Columns = ReadonlyMap<string, { sql: string; kind: ColumnKind }>;
/**
 * Columns with the names of the fields, by type.
 * @param table alias to write before each
 */
export function plainColumns(
  names: Partial<Record<ColumnKind, readonly string[]>>,
  table = '',
): [string, { sql: string; kind: ColumnKind }][] {
  const prefix = table && `${table}.`;
  return Object.entries(names).flatMap(([kind, fields]) =>
    fields.map((name): [string, { sql: string; kind: ColumnKind }] => [name, { sql: `${prefix}\`${name}\``, kind: kind as ColumnKind }]),
  );
}

export type ListRequest = { filter?: string | undefined; sort?: string | undefined; limit: number; cursor?: string | undefined };
/** Signs cursors, and gives filters the time. */
export type ListGround = { cursorSecret: Buffer; now: () => number };
/** What can be filtered and sorted, and its name in SQL. */
export type ListSource = { scope: FilterScope; names: SqlNames };
/** `name` is the field, or for a computed term the column it is selected as. */
export type SortTerm = { text: string; name: string; descending: boolean; sql: Sql; computed: boolean };
/** `words` are those that the filter searches for. */
/** What a cursor has to do with a sort term. */
export type CursorTerm = Pick<SortTerm, 'text' | 'name'>;
export type CompiledList = { where: Sql | null; sort: SortTerm[]; words: SearchWords | null };
export type ListPlan = {
  /** Conditions joined by AND, at least `TRUE`. */
  where: string;
  values: unknown[];
  /** After ORDER BY. */
  orderBy: string;
  sort: SortTerm[];
  limit: number;
};

const KINDS: Record<ColumnKind, ValueKind> = {
  text: 'text',
  number: 'number',
  boolean: 'boolean',
  date: 'date',
  time: 'time',
  list: 'list',
  other: 'object',
};
const SORTABLE: ReadonlySet<ValueKind> = new Set(['text', 'number', 'boolean', 'date', 'time']);
const NOBODY = { id: null, roles: [] };

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

/**
 * Reads a filter, and turns its error into a problem.
 * @throws {Problem} malformed-filter
 */
export function readingFilter<T>(work: () => T): T {
  try {
    return work();
  } catch (error) {
    if (error instanceof FilterError) throw new Problem('malformed-filter', `${error.message}.`);
    throw error;
  }
}

/** Turns the parts of a list request that can be kept into SQL. The last sort term is always the unique `tie` field. */
export function compileList(
  source: ListSource,
  { filter, sort }: Pick<ListRequest, 'filter' | 'sort'>,
  tie: string,
  tieDescending = false,
): CompiledList {
  const condition = filter?.trim() ? readingFilter(() => readFilter(filter, source.scope)) : null;
  const where = condition && readingFilter(() => compileSql(condition, source.names));
  const words = condition && !sort?.trim() ? searchedIn(condition) : null;
  return {
    where,
    sort: readSort(source, sort, tie, tieDescending, words ? [byRelevance(source, words)] : []),
    words: searchedIn(condition),
  };
}

/** The words that every item of a list is searched for. */
function searchedIn(condition: Condition | null): SearchWords | null {
  if (condition?.is === 'found') return condition.words;
  return condition?.is === 'all' ? condition.parts.reduce<SearchWords | null>((found, part) => found ?? searchedIn(part), null) : null;
}

/** Unless a list is sorted otherwise, the best answers to its search come first. */
const byRelevance = ({ names }: ListSource, words: SearchWords): SortTerm => ({
  text: '-relevance',
  name: '_s0',
  descending: true,
  sql: compileTermSql({ is: 'relevance', kind: 'number', words }, names),
  computed: true,
});

/** Binds a compiled list to one request. */
export function bindList(compiled: CompiledList, request: ListRequest, ground: ListGround, asking: Asking): ListPlan {
  const { where, sort } = compiled;
  const conditions: string[] = [];
  const slots: Slot[] = [];
  if (where) {
    conditions.push(`(${where.sql})`);
    slots.push(...where.slots);
  }
  if (request.cursor) conditions.push(afterCursor(sort, openCursor(request.cursor, sort, ground.cursorSecret), slots));
  const orderBy = sort.map(({ sql, name, computed, descending }) => `${computed ? name : sql.sql}${descending ? ' DESC' : ''}`).join(', ');
  return { where: conditions.join(' AND ') || 'TRUE', values: bindSlots(slots, asking), orderBy, sort, limit: request.limit };
}

export const kindsOf = (columns: Columns): Map<string, ValueKind> => new Map([...columns].map(([name, { kind }]) => [name, KINDS[kind]]));

/** A list of one of our own tables. @throws {Problem} malformed-filter, invalid-input */
export function planList(
  columns: Columns,
  request: ListRequest,
  tie: { field: string; descending: boolean },
  ground: ListGround,
  functions?: ListFunctions,
): ListPlan {
  const kinds = kindsOf(columns);
  const source: ListSource = {
    scope: flatScope(kinds, functions),
    names: {
      column: (path) => (columns.get(path.join('.')) as { sql: string }).sql,
      called: (name, args) => functions?.get(name)?.sql(args),
    },
  };
  return bindList(compileList(source, request, tie.field, tie.descending), request, ground, { me: NOBODY, now: ground.now() });
}

function readSort(
  { scope, names }: ListSource,
  text: string | undefined,
  tie: string,
  tieDescending: boolean,
  first: readonly SortTerm[] = [],
): SortTerm[] {
  const given = splitTerms(text ?? '').map((part, i): SortTerm => {
    const descending = part.startsWith('-');
    const bare = part.replace(/^[-+]\s*/, '');
    const computed = bare.includes('(');
    if (!computed && !SORTABLE.has(scope.kindOf(bare.split('.')) ?? 'object')) {
      const sortable = [...scope.names()].filter((name) => SORTABLE.has(scope.kindOf(name.split('.')) ?? 'object'));
      throw invalid(
        'query.sort',
        `Cannot sort by \`${bare}\`${nearest(bare, sortable) || '.'}`,
        `one of: ${sortable.join(', ')}${SORT_HINT}`,
      );
    }
    const term = readingFilter(() => analyseTerm(parseFilter(bare), scope));
    if (!SORTABLE.has(term.kind)) throw invalid('query.sort', `Cannot sort by \`${bare}\`.`, `a field, or a computed number${SORT_HINT}`);
    const joined = bare.includes('.');
    return {
      text: descending ? `-${bare}` : bare,
      name: computed || joined ? `_s${i}` : bare,
      descending,
      sql: compileTermSql(term, names),
      computed: computed || joined,
    };
  });
  const terms = [...first, ...given];
  if (terms.length > 4) throw invalid('query.sort', 'A list is sorted by at most four fields.', 'up to four fields');
  if (terms.some(({ name }) => name === tie)) return terms;
  return [
    ...terms,
    {
      text: tieDescending ? `-${tie}` : tie,
      name: tie,
      descending: tieDescending,
      sql: { sql: names.column([tie]), slots: [] },
      computed: false,
    },
  ];
}
const SORT_HINT = ', `-` before it for descending';

/** Everything after the cursor's row. MariaDB sorts NULL before all values, and after them when descending. */
function afterCursor(sort: SortTerm[], cursor: unknown[], slots: Slot[]): string {
  const put = (sql: Sql) => {
    slots.push(...sql.slots);
    return sql.sql;
  };
  const value = (one: unknown) => {
    slots.push({ value: one });
    return '?';
  };
  const beyond = ({ sql, descending }: SortTerm, at: unknown): string => {
    if (at === null) return descending ? 'FALSE' : `${put(sql)} IS NOT NULL`;
    return descending ? `(${put(sql)} < ${value(at)} OR ${put(sql)} IS NULL)` : `${put(sql)} > ${value(at)}`;
  };
  const first = sort[0] as SortTerm;
  // As a condition of its own, the bound of the first term lets an index start where the previous page ended.
  const start =
    sort.length > 1 && cursor[0] !== null
      ? `${first.descending ? `(${put(first.sql)} <= ${value(cursor[0])} OR ${put(first.sql)} IS NULL)` : `${put(first.sql)} >= ${value(cursor[0])}`} AND `
      : '';
  const alternatives = sort.map((term, i) => {
    const equal = sort.slice(0, i).map(({ sql }, j) => `${put(sql)} <=> ${value(cursor[j])}`);
    return [...equal, beyond(term, cursor[i])].join(' AND ');
  });
  return `(${start}((${alternatives.join(') OR (')})))`;
}

const signature = (body: string, secret: Buffer) => createHmac('sha256', secret).update(body).digest().subarray(0, 12);
const sortText = (sort: readonly CursorTerm[]) => sort.map(({ text }) => text).join(',');

/** Writes the cursor that points after a row. */
export function sealCursor(plan: { sort: readonly CursorTerm[] }, sortValue: (field: string) => unknown, secret: Buffer): string {
  const values = plan.sort.map(({ name }) => {
    const value = sortValue(name);
    return value instanceof Date ? { at: value.toISOString() } : (value ?? null);
  });
  const body = Buffer.from(JSON.stringify([sortText(plan.sort), values])).toString('base64url');
  return `${body}.${signature(body, secret).toString('base64url')}`;
}

/** The values of the row that a cursor points after. @throws {Problem} invalid-input */
export function openCursor(cursor: string, sort: readonly CursorTerm[], secret: Buffer): unknown[] {
  const [body = '', signed = ''] = cursor.split('.');
  const given = Buffer.from(signed, 'base64url');
  const wanted = signature(body, secret);
  if (given.length !== wanted.length || !timingSafeEqual(given, wanted))
    throw invalid('query.cursor', 'The cursor was not issued here.', '`next` of the previous page, unchanged');
  const [order, values] = JSON.parse(Buffer.from(body, 'base64url').toString()) as [string, unknown[]];
  if (order !== sortText(sort))
    throw invalid('query.cursor', `The cursor belongs to a list sorted by ${order}.`, 'the same `sort` as on the page before');
  return values.map((value) => (value !== null && typeof value === 'object' && 'at' in value ? new Date(value.at as string) : value));
}

/** Removes the extra row that shows whether there is a next page. */
export function cutPage<Row, Item>(
  rows: Row[],
  plan: ListPlan,
  { cursorSecret }: Pick<ListGround, 'cursorSecret'>,
  sortValue: (row: Row, field: string) => unknown,
  present: (row: Row) => Item,
): { items: Item[]; next?: string } {
  const kept = rows.length > plan.limit ? rows.slice(0, plan.limit) : rows;
  const last = kept.at(-1);
  const items = kept.map(present);
  return rows.length > plan.limit && last ? { items, next: sealCursor(plan, (field) => sortValue(last, field), cursorSecret) } : { items };
}

/** The source of a list: SQL that selects the rows, its fields, and its default order. */
type Listed = { select: string; columns: Columns; sort: string; tie: { field: string; descending: boolean } };

/**
 * One page of rows. Raw SQL, since filter and order are SQL.
 * @param select up to, and without, WHERE
 */
export async function listRows<Row extends object, Item>(
  on: Pick<Statements, 'rows'>,
  { select, columns, sort, tie }: Listed,
  request: ListRequest,
  ground: ListGround,
  present: (row: Row) => Item,
): Promise<{ items: Item[]; next?: string }> {
  const plan = planList(columns, { ...request, sort: request.sort || sort }, tie, ground);
  const rows = await on.rows<Row>(`${select} WHERE ${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`, plan.values);
  return cutPage(rows, plan, ground, (row, field) => row[field as keyof Row], present);
}

/** A database that a list across several takes rows from, with a condition of its own. */
export type ListPart = { on: Pick<Statements, 'rows'>; select: string; condition?: { sql: string; values: unknown[] } };

/** One page of rows of the same columns from several databases: each gives its first rows, and the first of those are the page. */
export async function listAcross<Row extends object, Item>(
  parts: readonly ListPart[],
  { columns, sort, tie }: Omit<Listed, 'select'>,
  request: ListRequest,
  ground: ListGround,
  present: (row: Row) => Item,
): Promise<{ items: Item[]; next?: string }> {
  const plan = planList(columns, { ...request, sort: request.sort || sort }, tie, ground);
  const limit = pLimit(AT_ONCE);
  const found = await limit.map(parts, ({ on, select, condition }) =>
    on.rows<Row>(
      `${select} WHERE ${condition ? `(${condition.sql}) AND ` : ''}${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      [...(condition?.values ?? []), ...plan.values],
    ),
  );
  const rows = found.flat().sort(inOrder(plan.sort));
  return cutPage(rows.slice(0, plan.limit + 1), plan, ground, (row, field) => row[field as keyof Row], present);
}
const AT_ONCE = 4;

/** The order of MariaDB: NULL first, text by its bytes. */
const inOrder = (sort: readonly SortTerm[]) => (a: object, b: object) => {
  for (const { name, descending } of sort) {
    const order = compare(a[name as keyof object], b[name as keyof object]);
    if (order !== 0) return descending ? -order : order;
  }
  return 0;
};

function compare(a: unknown, b: unknown): number {
  if (a === null || b === null) return Number(b === null ? 1 : 0) - Number(a === null ? 1 : 0);
  if (typeof a === 'string') return Buffer.compare(Buffer.from(a), Buffer.from(b as string));
  return Number(a) - Number(b);
}
