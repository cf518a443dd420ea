/** Writes a condition as MariaDB SQL with placeholders; nothing of a filter's text goes into the SQL itself. */
import { type Condition, OBJECT_STEP, type Scalar, type Term, type ValueKind } from './condition.js';
import { type Asking, compileEvaluator, reader } from './evaluate.js';
import { ACCENTED, writePattern } from './folding.js';
import { dependenciesOf, termReadsRecord } from './readsRecord.js';
import { type SearchWords, writeItemSearch, writeSearch } from './search.js';
import { type Box, boxesAround, boxOf, type Edge, type Position } from './geometry.js';

/** A placeholder's value, or how it is derived from the caller. */
export type Slot = { value: unknown } | { from: (asking: Asking) => unknown };
export type Sql = { sql: string; slots: Slot[] };
/** The names of the fields in SQL. */
export type SqlNames = {
  column(path: readonly string[]): string;
  /** A column with a spatial index that holds the place, or a place off the globe; null without index. */
  spatial?(path: readonly string[]): string | null;
  /** A column that holds what lies inside an object, for an index; of a text its beginning. Null without one. */
  inside?(path: readonly string[], keys: readonly string[], kind: ValueKind): string | null;
  /** A list with a full-text index over its items; null without one. */
  items?(path: readonly string[]): string | null;
  /** The column with the full-text index that `search` looks into. */
  search?(): string;
  /** A function of the scope, with its values. */
  called?(name: string, args: readonly Scalar[]): { sql: string; values: unknown[] } | undefined;
};

/** The values of the placeholders for a caller. */
export const bindSlots = (slots: readonly Slot[], asking: Asking): unknown[] =>
  slots.map((slot) => ('value' in slot ? slot.value : slot.from(asking)));

/** A condition for WHERE. What a spatial or a full-text index can answer is added where the condition implies it. */
export function compileSql(condition: Condition, names: SqlNames): Sql {
  const writer = new Writer(names);
  const sql = writer.condition(condition);
  const boxes = names.spatial ? impliedBoxes(condition, names.spatial) : [];
  const lists = names.items ? impliedItems(condition, names.items) : [];
  const hints = [
    ...boxes.map(({ column, boxes: areas }) => `(${areas.map((area) => writer.touches(column, area)).join(' OR ')})`),
    ...lists.map(({ column, words }) => writer.match(column, words)),
  ];
  return {
    sql: [...hints, sql].join(' AND '),
    slots: hints.length > 0 ? [...writer.slots.slice(writer.mark), ...writer.slots.slice(0, writer.mark)] : writer.slots,
  };
}

/** A value for ORDER BY or SELECT. */
export function compileTermSql(term: Term, names: SqlNames): Sql {
  const writer = new Writer(names);
  return { sql: writer.term(term), slots: writer.slots };
}

/** The common case, recognized without a walk. */
const readsField = (condition: Condition): boolean =>
  'left' in condition ? condition.left.is === 'field' : 'of' in condition && condition.of.is === 'field';
const NOBODY: Asking = { me: { id: null, roles: [] }, now: 0 };
const truthSql = (truth: boolean | null) => (truth === null ? 'NULL' : truth ? 'TRUE' : 'FALSE');
/** How much of a text the index over an object's path holds, in characters. */
export const INDEXED_TEXT = 191;
/** A constant that the beginning of a text decides about: shorter than what is held. */
const isShort = (term: Term): boolean => term.is === 'constant' && (typeof term.value !== 'string' || term.value.length < INDEXED_TEXT);
/** A number literal that MariaDB takes for a DOUBLE, not a DECIMAL. */
const double = (n: number) => (/e/.test(String(n)) ? String(n) : `${n}e0`);

class Writer {
  readonly slots: Slot[] = [];
  /** How many slots belong to the condition itself. */
  mark = 0;

  #items = 0;

  constructor(private names: SqlNames) {}

  #put(value: unknown): string {
    this.slots.push({ value });
    return '?';
  }

  condition(condition: Condition): string {
    const sql = this.#condition(condition);
    this.mark = this.slots.length;
    return sql;
  }

  #condition(condition: Condition): string {
    if (condition.is === 'always') return truthSql(condition.value);
    if (condition.is === 'all' || condition.is === 'any')
      return `(${condition.parts.map((part) => this.#condition(part)).join(condition.is === 'all' ? ' AND ' : ' OR ')})`;
    if (condition.is === 'not') return `NOT (${this.#condition(condition.part)})`;
    if (!readsField(condition)) {
      const { record, asking } = dependenciesOf(condition);
      if (!record) return this.#decided(condition, asking);
    }
    switch (condition.is) {
      case 'compare':
        return this.#compare(condition);
      case 'null':
        return `${this.term(condition.of)} IS NULL`;
      case 'like':
        return `${this.term(condition.of)} LIKE ${this.#put(writePattern(condition.pattern))}`;
      case 'oneOf':
        return `${this.#indexed(condition.of, condition.items)} IN (${condition.items.map((item) => this.term(item)).join(', ')})`;
      case 'samePlace':
        return this.#samePlace(condition.left, condition.right);
      case 'insideBox':
        return this.#insideBox(condition);
      case 'insidePolygon':
        return this.#insidePolygon(condition);
      case 'holds':
        return this.#holds(condition.list, { value: JSON.stringify([condition.item]) });
      case 'within':
        return `JSON_CONTAINS(${this.#put(JSON.stringify(condition.items))}, ${this.term(condition.list)})`;
      case 'sharesRoles':
        return this.#sharesRoles(condition.list, condition.how);
      case 'each':
        return this.#each(condition);
      case 'found':
        return `${this.#found(condition.words)} > 0`;
    }
  }

  #decided(condition: Condition, asking: boolean): string {
    const evaluate = compileEvaluator(condition);
    if (!asking) return truthSql(evaluate({}, NOBODY));
    this.slots.push({
      from: (who) => {
        const truth = evaluate({}, who);
        return truth === null ? null : Number(truth);
      },
    });
    return '?';
  }

  #holds(list: Term, slot: Slot): string {
    const sql = this.term(list);
    this.slots.push(slot);
    return `JSON_CONTAINS(${sql}, ?)`;
  }

  #sharesRoles(list: Term, how: 'any' | 'all' | 'within'): string {
    const roles: Slot = { from: ({ me }) => JSON.stringify(me.roles) };
    if (how === 'all') return this.#holds(list, roles);
    if (how === 'within') {
      this.slots.push(roles);
      return `JSON_CONTAINS(?, ${this.term(list)})`;
    }
    // An overlap counts items of inner lists too, which JSON_OVERLAPS does not.
    const column = this.term(list);
    this.slots.push(roles);
    return `IF(${column} IS NULL, NULL, EXISTS (SELECT 1 FROM JSON_TABLE(?, '$[*]' COLUMNS (role VARCHAR(100) PATH '$')) AS roles WHERE JSON_CONTAINS(${column}, JSON_ARRAY(roles.role))))`;
  }

  /** The conditions of an item see the item alone, as the column of a table of items. */
  #each({ list, how, condition }: Extract<Condition, { is: 'each' }>): string {
    const column = this.term(list);
    const alias = `items${++this.#items}`;
    const outer = this.names;
    this.names = { column: () => `${alias}.item` };
    const fits = this.#condition(condition);
    this.names = outer;
    const table = `JSON_TABLE(${column}, '$[*]' COLUMNS (item JSON PATH '$')) AS ${alias}`;
    const test =
      how === 'any'
        ? `EXISTS (SELECT 1 FROM ${table} WHERE ${fits})`
        : `NOT EXISTS (SELECT 1 FROM ${table} WHERE NOT COALESCE(${fits}, FALSE))`;
    return `IF(${column} IS NULL, NULL, ${test})`;
  }

  #samePlace(left: Term, right: Term): string {
    const axis = (name: string) => `${name}(${this.term(left)}) = ${name}(${this.term(right)})`;
    return `(${axis('ST_X')} AND ${axis('ST_Y')})`;
  }

  #insideBox({ of, bounds: [west, south, east, north], boundary }: Extract<Condition, { is: 'insideBox' }>): string {
    const place = this.term(of);
    const [more, less] = boundary ? ['>=', '<='] : ['>', '<'];
    const test = (axis: string, operator: string, value: number) => `${axis}(${place}) ${operator} ${this.#put(value)}`;
    const across = `${test('ST_X', more, west)} ${west <= east ? 'AND' : 'OR'} ${test('ST_X', less, east)}`;
    return `((${across}) AND ${test('ST_Y', more, south)} AND ${test('ST_Y', less, north)})`;
  }

  #insidePolygon({ of, edges, boundary }: Extract<Condition, { is: 'insidePolygon' }>): string {
    const place = this.term(of);
    const [x, y] = [`ST_X(${place})`, `ST_Y(${place})`];
    const onSide = `(${edges.map((edge) => onEdgeSql(x, y, edge)).join(' OR ')})`;
    const inside = balancedXor(edges.map((edge) => crossedSql(x, y, edge)));
    return boundary ? `(${onSide} OR ${inside})` : `(NOT ${onSide} AND ${inside})`;
  }

  /** Whether a box touches a place, by the spatial index. */
  touches(column: string, [west, south, east, north]: Box): string {
    const corners = [
      [west, south],
      [east, south],
      [east, north],
      [west, north],
      [west, south],
    ];
    return `MBRIntersects(${column}, ST_GeomFromText(${this.#put(`POLYGON((${corners.map((corner) => corner.join(' ')).join(', ')}))`)}))`;
  }

  term(term: Term): string {
    switch (term.is) {
      case 'constant':
        return this.#constant(term);
      case 'field':
        return this.names.column(term.path);
      case 'inside':
        return insideSql(this.names.column(term.path), term.keys, term.kind);
      case 'called':
        return this.#called(term);
      case 'me':
        this.slots.push({ from: ({ me }) => me.id });
        return '?';
      case 'myRoles':
        this.slots.push({ from: ({ me }) => JSON.stringify(me.roles) });
        return '?';
      case 'myField':
        return this.#myField(term);
      case 'now':
        this.slots.push({ from: ({ now }) => new Date(now) });
        return '?';
      case 'arithmetic':
        return this.#arithmetic(term);
      case 'folded':
        if (!termReadsRecord(term.of)) return this.#readBefore(term);
        return folded(term.letters, this.term(term.of));
      case 'midnight':
        return `CAST(${this.term(term.of)} AS DATETIME(3))`;
      case 'distance':
        return `ROUND(ST_Distance_Sphere(${this.term(term.from)}, ${this.term(term.to)}), 3)`;
      case 'relevance':
        return this.#found(term.words);
    }
  }

  #found(words: SearchWords): string {
    if (!this.names.search) throw new Error('a search needs the column of its index');
    return this.match(this.names.search(), writeSearch(words));
  }

  /** How well a column with a full-text index answers; 0 where it does not. */
  match(column: string, words: string): string {
    return `MATCH(${column}) AGAINST(${this.#put(words)} IN BOOLEAN MODE)`;
  }

  #compare({ left, operator, right }: Extract<Condition, { is: 'compare' }>): string {
    return `${this.#indexed(left, [right])} ${operator} ${this.#indexed(right, [left])}`;
  }

  /** A term that is compared with others; what lies inside an object by the column of its index, where that decides. */
  #indexed(term: Term, others: readonly Term[]): string {
    if (term.is !== 'inside' || !others.every(isShort)) return this.term(term);
    return this.names.inside?.(term.path, term.keys, term.kind) ?? this.term(term);
  }

  #called({ name, args }: Extract<Term, { is: 'called' }>): string {
    const called = this.names.called?.(name, args);
    if (!called) throw new Error(`the function ${name} has no SQL`);
    for (const value of called.values) this.#put(value);
    return called.sql;
  }

  /** Terms without a field are computed before the statement runs. */
  #readBefore(term: Term): string {
    const read = reader(term);
    this.slots.push({ from: (asking) => read({}, asking) });
    return '?';
  }

  #myField(term: Extract<Term, { is: 'myField' }>): string {
    const read = reader(term);
    this.slots.push({
      from: (asking) => {
        const value = read({}, asking);
        if (value === null) return null;
        if (term.kind === 'time') return new Date(value as number);
        return term.kind === 'boolean' ? Number(value) : value;
      },
    });
    return '?';
  }

  #constant({ kind, value }: Extract<Term, { is: 'constant' }>): string {
    if (kind === 'place') return `POINT(${this.#put((value as Position)[0])}, ${this.#put((value as Position)[1])})`;
    if (kind === 'time') return this.#put(new Date(value as number));
    return this.#put(kind === 'boolean' ? Number(value) : value);
  }

  /** In DOUBLE throughout: MariaDB's integers overflow, and its quotients of integers are decimals. */
  #arithmetic({ operator, left, right }: Extract<Term, { is: 'arithmetic' }>): string {
    const side = (term: Term) => (term.is === 'field' ? `(${this.term(term)} + 0e0)` : this.term(term));
    const [a, b] = [side(left), side(right)];
    return operator === 'div' ? `TRUNCATE(${a} / ${b}, 0)` : `(${a} ${operator} ${b})`;
  }
}

/**
 * What lies inside an object; a value of another type than is compared is NULL.
 * @param keys letters, digits, - and _ alone, as they were checked
 */
export function insideSql(column: string, keys: readonly string[], kind: ValueKind): string {
  if (!keys.every((key) => OBJECT_STEP.test(key))) throw new Error('a step inside an object was not checked');
  const of = `${column}, '$${keys.map((key) => `."${key}"`).join('')}'`;
  const type = `JSON_TYPE(JSON_EXTRACT(${of}))`;
  switch (kind) {
    case 'text':
      // The column of the object would compare texts without the spaces at their ends.
      return `IF(${type} = 'STRING', JSON_VALUE(${of}) COLLATE utf8mb4_nopad_bin, NULL)`;
    case 'number':
      return `IF(${type} IN ('INTEGER', 'DOUBLE'), CAST(JSON_VALUE(${of}) AS DOUBLE), NULL)`;
    case 'boolean':
      return `IF(${type} = 'BOOLEAN', CAST(JSON_VALUE(${of}) AS INTEGER), NULL)`;
    case 'list':
      return `IF(${type} = 'ARRAY', JSON_EXTRACT(${of}), NULL)`;
    default:
      return `IF(${type} = 'NULL', NULL, JSON_EXTRACT(${of}))`;
  }
}

const onEdgeSql = (x: string, y: string, { x1, y1, x2, y2, dx, dy }: Edge): string => {
  const between = (axis: string, a: number, b: number) => `${axis} BETWEEN ${double(Math.min(a, b))} AND ${double(Math.max(a, b))}`;
  return `(${double(dx)} * (${y} - ${double(y1)}) = ${double(dy)} * (${x} - ${double(x1)}) AND ${between(x, x1, x2)} AND ${between(y, y1, y2)})`;
};

const crossedSql = (x: string, y: string, { x1, y1, y2, dx, dy }: Edge): string =>
  `((${double(y1)} > ${y}) <> (${double(y2)} > ${y}) AND ${x} < (${double(dx)} * (${y} - ${double(y1)})) / ${double(dy)} + ${double(x1)})`;

/** Nested by halves, so that the depth stays small. */
function balancedXor(parts: string[]): string {
  if (parts.length === 1) return parts[0] as string;
  const half = parts.length >> 1;
  return `(${balancedXor(parts.slice(0, half))} XOR ${balancedXor(parts.slice(half))})`;
}

function folded(letters: 'case' | 'accents', sql: string): string {
  const text = `CONVERT(${sql} USING utf8mb4)`;
  if (letters === 'case') return `LOWER(${text} COLLATE utf8mb4_uca1400_nopad_as_cs) COLLATE utf8mb4_nopad_bin`;
  // An ASCII text, recognized by its length in bytes, needs no check of its characters.
  let plain = `REGEXP_REPLACE(${text} COLLATE utf8mb4_nopad_bin, '[\\\\x{0300}-\\\\x{036f}]', '')`;
  for (const [letter, accented] of ACCENTED) plain = `REGEXP_REPLACE(${plain}, '[${accented}]', '${letter}')`;
  return `IF(LENGTH(${sql}) = CHAR_LENGTH(${sql}), ${text}, ${plain}) COLLATE utf8mb4_nopad_bin`;
}

/** Boxes outside of which the condition cannot hold, from its parts that are joined by AND. */
function impliedBoxes(condition: Condition, spatial: (path: readonly string[]) => string | null): { column: string; boxes: Box[] }[] {
  if (condition.is === 'all') return condition.parts.flatMap((part) => impliedBoxes(part, spatial));
  const on = (term: Term, boxes: Box[]) => {
    const column = term.is === 'field' ? spatial(term.path) : null;
    return column ? [{ column, boxes }] : [];
  };
  if (condition.is === 'insideBox') {
    const [west, south, east, north] = condition.bounds;
    return on(
      condition.of,
      west <= east
        ? [[west, south, east, north]]
        : [
            [west, south, 180, north],
            [-180, south, east, north],
          ],
    );
  }
  if (condition.is === 'insidePolygon') return on(condition.of, [boxOf(condition.rings[0] as Position[])]);
  if (condition.is !== 'compare') return [];
  const { operator, left, right } = condition;
  const [near, limit] =
    operator === '<' || operator === '<=' || operator === '='
      ? [left, right]
      : operator === '>' || operator === '>='
        ? [right, left]
        : [null, null];
  if (near?.is !== 'distance' || limit?.is !== 'constant') return [];
  const [place, center] = near.from.is === 'field' ? [near.from, near.to] : [near.to, near.from];
  return center.is === 'constant' ? on(place, boxesAround(center.value as Position, Math.max(0, limit.value as number) + 0.001)) : [];
}

/** Items of which a list holds one, from the parts that are joined by AND, as words of its full-text index. */
function impliedItems(condition: Condition, items: (path: readonly string[]) => string | null): { column: string; words: string }[] {
  if (condition.is === 'all') return condition.parts.flatMap((part) => impliedItems(part, items));
  const parts = condition.is === 'any' ? condition.parts.filter((part) => !(part.is === 'always' && part.value === false)) : [condition];
  const lists = parts.map((part) => (part.is === 'holds' && part.list.is === 'field' ? part : null));
  const column = lists[0]?.list.is === 'field' ? items(lists[0].list.path) : null;
  const same = lists.every((part) => part?.list.is === 'field' && items(part.list.path) === column);
  const words = column && same ? writeItemSearch(lists.map((part) => part?.item as Scalar)) : null;
  return column && words ? [{ column, words }] : [];
}
