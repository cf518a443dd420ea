/**
 * Conditions for a table of somebody else's: SQL of MariaDB or PostgreSQL over plain columns, with the caller's values in place.
 * Texts compare as the server compares its columns. Nothing of a filter's text goes into the SQL itself.
 */
import type { Condition, Scalar, Term, ValueKind } from './condition.js';
import { insideSql } from './sql.js';
import { type Asking, compileEvaluator, reader } from './evaluate.js';
import { readsRecord, termReadsRecord } from './readsRecord.js';
import { writePattern } from './folding.js';
import type { Comparison } from './tree.js';

export type OutsideDialect = 'mariadb' | 'postgresql';

/** Something that a table of another server cannot be asked. */
export class OutsideLimit extends Error {}

/** How PostgreSQL reads a placeholder of a kind. */
const CASTS: Partial<Record<ValueKind, string>> = {
  text: 'text',
  number: 'float8',
  boolean: 'boolean',
  date: 'date',
  time: 'timestamptz',
  list: 'jsonb',
};

/** Writes one statement: its placeholders in order, with their values. */
export class OutsideSql {
  readonly values: unknown[] = [];

  /** @param columnOf the name of a field's column, as SQL */
  constructor(
    readonly dialect: OutsideDialect,
    private readonly columnOf: (field: string) => string,
    private readonly asking: Asking,
  ) {}

  /** A placeholder for a value. */
  put(value: unknown, kind?: ValueKind): string {
    this.values.push(kind === 'boolean' && this.dialect === 'mariadb' && value !== null ? Number(value) : value);
    if (this.dialect === 'mariadb') return '?';
    // Whole numbers as such, so that an index over integers serves.
    const cast = kind === 'number' && Number.isSafeInteger(value) ? 'int8' : kind && CASTS[kind];
    return `$${this.values.length}${cast ? `::${cast}` : ''}`;
  }

  /** @throws {OutsideLimit} */
  condition(condition: Condition): string {
    if (condition.is === 'all' || condition.is === 'any')
      return `(${condition.parts.map((part) => this.condition(part)).join(condition.is === 'all' ? ' AND ' : ' OR ')})`;
    if (condition.is === 'not') return `NOT (${this.condition(condition.part)})`;
    if (!readsRecord(condition)) return truthSql(compileEvaluator(condition)({}, this.asking));
    switch (condition.is) {
      case 'compare':
        return this.#compare(condition.operator, condition.left, condition.right);
      case 'null':
        return `${this.term(condition.of)} IS NULL`;
      case 'like':
        return `${this.term(condition.of)} LIKE ${this.put(writePattern(condition.pattern), 'text')}`;
      case 'oneOf':
        return `(${condition.items.map((item) => this.#compare('=', condition.of, item)).join(' OR ')})`;
      case 'holds':
        return this.#contains(this.term(condition.list), this.#json([condition.item]));
      case 'within':
        return this.#contains(this.#json(condition.items), this.term(condition.list));
      case 'found':
        throw new OutsideLimit('It has no search index: `search` is for collections of this environment');
      case 'each':
        throw new OutsideLimit('Lists of objects cannot be looked into: `any` and `all` are for collections of this environment');
      case 'sharesRoles':
        throw new OutsideLimit("A list of it cannot be compared with me('roles')");
      default:
        throw new OutsideLimit('It has no places');
    }
  }

  #json(items: readonly Scalar[]): string {
    return this.put(JSON.stringify(items), 'list');
  }

  #contains(outer: string, inner: string): string {
    return this.dialect === 'mariadb' ? `JSON_CONTAINS(${outer}, ${inner})` : `${outer} @> ${inner}`;
  }

  #compare(operator: Comparison, left: Term, right: Term): string {
    return `${this.term(left)} ${operator} ${this.term(right)}`;
  }

  /** @throws {OutsideLimit} */
  term(term: Term): string {
    if (!termReadsRecord(term)) return this.#computed(term);
    switch (term.is) {
      case 'field': {
        if (term.path.length > 1) throw new OutsideLimit('It has no references to follow');
        const column = this.columnOf(term.path[0] as string);
        return term.kind === 'list' && this.dialect === 'postgresql' ? `${column}::jsonb` : column;
      }
      case 'inside':
        return this.#inside(term);
      case 'arithmetic':
        return this.#arithmetic(term);
      case 'folded':
        if (term.letters === 'accents') throw new OutsideLimit('ACCENTI is for collections of this environment');
        return `LOWER(${this.term(term.of)})`;
      case 'midnight':
        return this.dialect === 'mariadb'
          ? `CAST(${this.term(term.of)} AS DATETIME(3))`
          : `(${this.term(term.of)}::timestamp AT TIME ZONE 'UTC')`;
      default:
        throw new OutsideLimit('It has no places');
    }
  }

  /** What does not depend on the row is computed before. */
  #computed(term: Term): string {
    const value = reader(term)({}, this.asking);
    return this.put(term.kind === 'time' && value !== null ? new Date(value as number) : value, term.kind);
  }

  #inside({ path, keys, kind }: Extract<Term, { is: 'inside' }>): string {
    const column = this.columnOf(path[0] as string);
    if (this.dialect === 'mariadb') return insideSql(column, keys, kind);
    const at = this.put(keys);
    const value = `(${column}::jsonb #> ${at}::text[])`;
    const text = `(${column}::jsonb #>> ${at}::text[])`;
    const of = (type: string, sql: string) => `CASE WHEN jsonb_typeof(${value}) = '${type}' THEN ${sql} END`;
    switch (kind) {
      case 'text':
        return of('string', text);
      case 'number':
        return of('number', `${text}::float8`);
      case 'boolean':
        return of('boolean', `${text}::boolean`);
      case 'list':
        return of('array', value);
      default:
        return `CASE WHEN jsonb_typeof(${value}) <> 'null' THEN ${value} END`;
    }
  }

  /** In floating point throughout, as elsewhere; a division by 0 is unknown. */
  #arithmetic({ operator, left, right }: Extract<Term, { is: 'arithmetic' }>): string {
    const number = (term: Term) => (this.dialect === 'mariadb' ? `(${this.term(term)} + 0e0)` : `(${this.term(term)})::float8`);
    const [a, b] = [number(left), number(right)];
    if (this.dialect === 'mariadb') return operator === 'div' ? `TRUNCATE(${a} / ${b}, 0)` : `(${a} ${operator} ${b})`;
    if (operator === '%') return `MOD(${a}::numeric, NULLIF(${b}, 0)::numeric)::float8`;
    if (operator === 'div') return `TRUNC(${a} / NULLIF(${b}, 0))`;
    return operator === '/' ? `(${a} / NULLIF(${b}, 0))` : `(${a} ${operator} ${b})`;
  }
}

const truthSql = (truth: boolean | null): string => (truth === null ? 'NULL' : truth ? 'TRUE' : 'FALSE');
