/** Summaries: records grouped by fields or time steps, with measures of each group. */
import { Problem } from '@orchard/contract';
import { bindSlots, type Json, type JsonObject, nearest, own } from '@orchard/core';
import { bindList, compileList } from '../../platform/database/listing.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import type { Shapes } from '../collections/catalogue.js';
import { presentValue } from '../collections/columns.js';
import { demandList, inRange } from './listStore.js';
import { QueryBuilder, scopeOf, visibleSql } from '../collections/querySql.js';
import type { Records } from './records.js';
import { readMeasure, splitGroup } from './summaryTerms.js';
import { type CollectionShape, kindIn, visibleNames } from '../collections/shape.js';
import { askingOf, type Author } from './author.js';
import type { Summary, SummaryRequest } from './forms.js';

/** Widths of cells, in degrees: from about ten metres to an eighth of the globe. */
const [LEAST_CELL, MOST_CELL] = [0.0001, 45];
const STEPS: Record<string, (column: string) => string> = {
  hour: (column) => `DATE_FORMAT(${column}, '%Y-%m-%dT%H:00:00.000Z')`,
  day: (column) => `DATE_FORMAT(${column}, '%Y-%m-%d')`,
  // ISO 8601 weeks begin on Monday.
  week: (column) => `DATE_FORMAT(DATE_SUB(${column}, INTERVAL WEEKDAY(${column}) DAY), '%Y-%m-%d')`,
  month: (column) => `DATE_FORMAT(${column}, '%Y-%m-01')`,
};

/** The column of a field, as the caller sees it. */
type ColumnOf = (name: string) => string;
type Column = { name: string; sql: string; slots: []; read: (value: unknown) => Json };

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

export class Summaries {
  constructor(
    private readonly parts: Parts,
    private readonly records: Records,
  ) {}

  async summarise(environment: Environment, collection: string, request: SummaryRequest, author: Author): Promise<Summary> {
    const { shapes, shape } = await this.records.known(environment, collection);
    demandList(shapes, shape, author);
    const builder = new QueryBuilder(shapes, shape);
    const columns = builder.names(author.trusted);
    const columnOf = (name: string) => columns.column([name]);
    const groups = readGroups(shape, request.group, author.trusted, columnOf);
    const measures = readMeasures(shape, request.measure, author.trusted, columnOf);
    const compiled = compileList(
      { scope: scopeOf(shapes, shape, author.trusted), names: builder.names(author.trusted) },
      { filter: request.filter, sort: undefined },
      'id',
    );
    return this.#run(shapes, shape, builder, groups, measures, compiled, request, author);
  }

  async #run(
    shapes: Shapes,
    shape: CollectionShape,
    builder: QueryBuilder,
    groups: Column[],
    measures: Column[],
    compiled: ReturnType<typeof compileList>,
    request: SummaryRequest,
    author: Author,
  ): Promise<Summary> {
    const asking = askingOf(author, this.parts.now());
    const plan = bindList(compiled, { limit: request.limit }, this.parts, asking);
    const rule = author.trusted ? null : visibleSql(shapes, shape, 't');
    const { joins } = builder;
    const columns = [...groups, ...measures];
    const names = groups.map((_, i) => `_c${i}`).join(', ');
    const sql = `SELECT ${columns.map((column, i) => `${column.sql} AS _c${i}`).join(', ')} FROM ${shape.table} t${joins.sql} WHERE ${rule ? `${rule.sql} AND ` : ''}${plan.where}${names ? ` GROUP BY ${names} ORDER BY ${names}` : ''} LIMIT ${request.limit + 1}`;
    const values = [...bindSlots([...joins.slots, ...(rule?.slots ?? [])], asking), ...plan.values];
    const rows = await inRange(() => shape.db.rows<Record<string, unknown>>(sql, values));
    const present = (row: Record<string, unknown>): JsonObject =>
      Object.fromEntries(columns.map(({ name, read }, i) => [name, read(row[`_c${i}`])]));
    return { groups: rows.slice(0, request.limit).map(present), more: rows.length > request.limit };
  }
}

function fieldOf(shape: CollectionShape, name: string, path: string, withHidden: boolean) {
  const kind = kindIn(shape, name, withHidden);
  if (kind) return kind;
  const names = visibleNames(shape, withHidden);
  throw invalid(path, `\`${shape.name}\` has no field \`${name}\`${nearest(name, names) || '.'}`, `one of: ${names.join(', ')}`);
}

/** `position:0.5`: cells of so many degrees, each told by its centre. */
function cellOf(name: string, step: string, term: string, column: string): Column {
  const width = /^\d+(\.\d+)?$/.test(step) ? Number(step) : 0;
  if (!(width >= LEAST_CELL && width <= MOST_CELL))
    throw invalid(
      'query.group',
      `\`${term}\` is not a cell of a grid.`,
      `a width in degrees from ${LEAST_CELL} to ${MOST_CELL}, such as ${name}:0.5`,
    );
  const index = (axis: string) => `FLOOR(${axis}(${column}) / ${width}e0)`;
  return {
    name: term,
    sql: `CONCAT(${index('ST_X')}, ' ', ${index('ST_Y')})`,
    slots: [],
    read: (value) => {
      if (value === null || value === undefined) return null;
      const [x = 0, y = 0] = String(value).split(' ').map(Number);
      const centre = (at: number) => Number(((at + 0.5) * width).toFixed(7));
      return { type: 'Point', coordinates: [centre(x), centre(y)] };
    },
  };
}

/** `hut,createdAt:week`, `position:0.5`. */
function readGroups(shape: CollectionShape, text: string | undefined, withHidden: boolean, columnOf: ColumnOf): Column[] {
  return splitGroup(text).map(({ term, name, step }) => {
    const kind = fieldOf(shape, name, 'query.group', withHidden);
    if (!step) {
      if (kind === 'place' || kind === 'list' || kind === 'object')
        throw invalid(
          'query.group',
          `\`${name}\` holds ${kind === 'object' ? 'an object' : `a ${kind}`}, which cannot be grouped by.`,
          kind === 'place'
            ? 'a place with the width of a cell in degrees, such as position:0.5'
            : 'a text, number, boolean, date, time, choice or reference',
        );
      return {
        name: term,
        sql: columnOf(name),
        slots: [],
        read: (value) => presentValue(kind === 'time' ? 'time' : (shape.fields.get(name)?.type ?? 'text'), value),
      };
    }
    if (kind === 'place') return cellOf(name, step, term, columnOf(name));
    const write = own(STEPS, step);
    if (!write || (kind !== 'time' && kind !== 'date'))
      throw invalid('query.group', `\`${term}\` is not a step of time.`, 'a date or time field with :hour, :day, :week or :month');
    return { name: term, sql: write(columnOf(name)), slots: [], read: (value) => (value ?? null) as Json };
  });
}

/** `count,sum:nights,distinct:guest`; the count alone by default. */
function readMeasures(shape: CollectionShape, text: string | undefined, withHidden: boolean, columnOf: ColumnOf): Column[] {
  const number = (value: unknown): Json => (value === null || value === undefined ? null : Number(value));
  return readMeasure(text).map(({ term, how, name }): Column => {
    if (how === 'count') return { name: 'count', sql: 'COUNT(*)', slots: [], read: number };
    const kind = fieldOf(shape, name, 'query.measure', withHidden);
    const column = columnOf(name);
    if (how === 'distinct') return { name: term, sql: `COUNT(DISTINCT ${column})`, slots: [], read: number };
    if (how === 'sum' || how === 'avg') {
      if (kind !== 'number')
        throw invalid(
          'query.measure',
          `\`${name}\` holds no numbers to ${how === 'sum' ? 'add up' : 'average'}.`,
          'a field of type integer or number',
        );
      return { name: term, sql: `${how.toUpperCase()}(${column} + 0e0)`, slots: [], read: number };
    }
    if (kind === 'place' || kind === 'list' || kind === 'object' || kind === 'boolean')
      throw invalid('query.measure', `\`${name}\` has no least or greatest value.`, 'a number, text, date or time');
    const field = shape.fields.get(name);
    return {
      name: term,
      sql: `${how.toUpperCase()}(${column})`,
      slots: [],
      read: (value) => (kind === 'number' ? number(value) : presentValue(field ? field.type : kind === 'time' ? 'time' : 'text', value)),
    };
  });
}
