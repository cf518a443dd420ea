/** Lists: filter, sort and keyset cursor as SQL, the same for every table. */
import { createHmac, timingSafeEqual } from 'node:crypto';
import { Problem } from '@orchard/contract';
import { type Filter, FilterError, type Literal, nearest, parseFilter } from '@orchard/core';

export type ColumnKind = 'text' | 'number' | 'boolean' | 'time' | 'other';
/** The fields a list can be filtered and sorted by: the SQL for each, and what it holds. */
export type Columns = ReadonlyMap<string, { sql: string; kind: ColumnKind }>;
export type ListRequest = { filter?: string | undefined; sort?: string | undefined; limit: number; cursor?: string | undefined };
export type SortTerm = { field: string; descending: boolean };
export type ListPlan = {
  /** Conditions joined by AND, at least `TRUE`. */
  where: string;
  values: unknown[];
  /** After ORDER BY. */
  orderBy: string;
  sort: SortTerm[];
  limit: number;
};

/**
 * Turns a list request into SQL. The last sort term is always the table's unique `tie` field.
 * @throws {Problem} malformed-filter, invalid-input
 */
export function planList(columns: Columns, request: ListRequest, tie: SortTerm, secret: Buffer): ListPlan {
  const sort = readSort(columns, request.sort, tie);
  const values: unknown[] = [];
  const conditions: string[] = [];
  if (request.filter?.trim()) conditions.push(filterSql(readFilter(request.filter, columns), columns, values));
  if (request.cursor) conditions.push(afterCursor(columns, sort, openCursor(request.cursor, sort, secret), values));
  const orderBy = sort.map(({ field, descending }) => `${sqlOf(columns, field)}${descending ? ' DESC' : ''}`).join(', ');
  return { where: conditions.join(' AND ') || 'TRUE', values, orderBy, sort, limit: request.limit };
}

const sqlOf = (columns: Columns, field: string) => (columns.get(field) as { sql: string }).sql;
const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

function readFilter(text: string, columns: Columns): Filter {
  try {
    return parseFilter(text, columns.keys());
  } catch (error) {
    if (error instanceof FilterError) throw new Problem('malformed-filter', `${error.message}.`);
    throw error;
  }
}

function readSort(columns: Columns, text: string | undefined, tie: SortTerm): SortTerm[] {
  const terms = (text ?? '')
    .split(',')
    .map((term) => term.trim())
    .filter(Boolean)
    .map((term) => ({ field: term.replace(/^[-+]/, ''), descending: term.startsWith('-') }));
  for (const { field } of terms) {
    const column = columns.get(field);
    if (!column || column.kind === 'other') {
      const names = [...columns].filter(([, { kind }]) => kind !== 'other').map(([name]) => name);
      throw invalid('query.sort', `Cannot sort by \`${field}\`${nearest(field, names) || '.'}`, `one of: ${names.join(', ')}`);
    }
  }
  return terms.some(({ field }) => field === tie.field) ? terms : [...terms, tie];
}

const WRITTEN: Record<Exclude<ColumnKind, 'other'>, string> = {
  text: 'text',
  number: 'a number',
  boolean: 'TRUE or FALSE',
  time: "a time such as '2026-07-14T06:00:00Z'",
};

function bind(column: { kind: ColumnKind }, field: string, value: Literal): unknown {
  const refuse = (): never => {
    throw new Problem(
      'malformed-filter',
      `\`${field}\` is compared with ${JSON.stringify(value)}; it holds ${column.kind === 'other' ? 'a value that can only be tested with IS NULL' : WRITTEN[column.kind]}.`,
    );
  };
  switch (column.kind) {
    case 'text':
      return typeof value === 'string' ? value : refuse();
    case 'number':
      return typeof value === 'number' ? value : refuse();
    case 'boolean':
      return typeof value === 'boolean' ? Number(value) : refuse();
    case 'time':
      return typeof value === 'string' && !Number.isNaN(Date.parse(value)) ? new Date(value) : refuse();
    case 'other':
      return refuse();
  }
}

/** CQL2 section 7.1.2: % stands for any text, _ for one letter, \ escapes; as in SQL. */
function filterSql(filter: Filter, columns: Columns, values: unknown[]): string {
  switch (filter.kind) {
    case 'and':
    case 'or':
      return `(${filter.parts.map((part) => filterSql(part, columns, values)).join(` ${filter.kind.toUpperCase()} `)})`;
    case 'not':
      return `NOT (${filterSql(filter.part, columns, values)})`;
    case 'isNull':
      return `${sqlOf(columns, filter.field)} IS ${filter.negated ? 'NOT ' : ''}NULL`;
  }
  const column = columns.get(filter.field) as { sql: string; kind: ColumnKind };
  const push = (value: Literal) => values.push(bind(column, filter.field, value));
  switch (filter.kind) {
    case 'like':
      push(filter.pattern);
      return `${column.sql} ${filter.negated ? 'NOT ' : ''}LIKE ?`;
    case 'in':
      for (const value of filter.values) push(value);
      return `${column.sql} ${filter.negated ? 'NOT ' : ''}IN (${filter.values.map(() => '?').join(', ')})`;
    case 'comparison':
      push(filter.value);
      return `${column.sql} ${filter.operator} ?`;
  }
}

/** Everything after the cursor's row. MariaDB sorts NULL before all values, and after them when descending. */
function afterCursor(columns: Columns, sort: SortTerm[], cursor: unknown[], values: unknown[]): string {
  const alternatives = sort.map((term, i) => {
    const equal = sort.slice(0, i).map(({ field }, j) => {
      values.push(cursor[j]);
      return `${sqlOf(columns, field)} <=> ?`;
    });
    return [...equal, beyond(sqlOf(columns, term.field), term.descending, cursor[i], values)].join(' AND ');
  });
  return `((${alternatives.join(') OR (')}))`;
}

function beyond(sql: string, descending: boolean, value: unknown, values: unknown[]): string {
  if (value === null) return descending ? 'FALSE' : `${sql} IS NOT NULL`;
  values.push(value);
  return descending ? `(${sql} < ? OR ${sql} IS NULL)` : `${sql} > ?`;
}

const signature = (body: string, secret: Buffer) => createHmac('sha256', secret).update(body).digest().subarray(0, 12);
const sortText = (sort: SortTerm[]) => sort.map(({ field, descending }) => (descending ? `-${field}` : field)).join(',');

/** Writes the cursor that points behind a row. */
export function sealCursor(plan: ListPlan, sortValue: (field: string) => unknown, secret: Buffer): string {
  const values = plan.sort.map(({ field }) => {
    const value = sortValue(field);
    return value instanceof Date ? { at: value.toISOString() } : (value ?? null);
  });
  const body = Buffer.from(JSON.stringify([sortText(plan.sort), values])).toString('base64url');
  return `${body}.${signature(body, secret).toString('base64url')}`;
}

function openCursor(cursor: string, sort: SortTerm[], secret: Buffer): unknown[] {
  const [body = '', signed = ''] = cursor.split('.');
  const given = Buffer.from(signed, 'base64url');
  const wanted = signature(body, secret);
  if (given.length !== wanted.length || !timingSafeEqual(given, wanted))
    throw invalid('query.cursor', 'The cursor was not made here.', '`next` of the page before, unchanged');
  const [order, values] = JSON.parse(Buffer.from(body, 'base64url').toString()) as [string, unknown[]];
  if (order !== sortText(sort))
    throw invalid('query.cursor', `The cursor belongs to a list sorted by ${order}.`, 'the same `sort` as on the page before');
  return values.map((value) => (value !== null && typeof value === 'object' && 'at' in value ? new Date(value.at as string) : value));
}

/** Cuts the one row too many that tells whether there is a next page. */
export function cutPage<Row, Item>(
  rows: Row[],
  plan: ListPlan,
  secret: Buffer,
  sortValue: (row: Row, field: string) => unknown,
  present: (row: Row) => Item,
): { items: Item[]; next?: string } {
  const kept = rows.slice(0, plan.limit);
  const last = kept.at(-1);
  const items = kept.map(present);
  return rows.length > plan.limit && last ? { items, next: sealCursor(plan, (field) => sortValue(last, field), secret) } : { items };
}
