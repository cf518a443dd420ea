/** Records of an outside table: its rows, read and written with the SQL of its server. */
import { Problem } from '@orchard/contract';
import {
  checkFields,
  type Condition,
  FilterError,
  type FilterScope,
  type Json,
  type JsonObject,
  mergePatch,
  nearest,
  OutsideLimit,
  OutsideSql,
  own,
  readFilter,
  type RecordAction,
  splitTerms,
  type ValueKind,
} from '@orchard/core';
import { openCursor, sealCursor } from '../../platform/database/listing.js';
import { askingOf, type Author } from '../records/author.js';
import { readChange, valuesAfter } from '../records/changing.js';
import { presetReason, refusal } from '../records/demands.js';
import { checkVersion, missing } from '../records/recordProblems.js';
import { readMeasure, splitGroup } from '../records/summaryTerms.js';
import type { OutsideStatements } from './connection.js';
import { isNoKey, outsideProblem } from './errors.js';
import type { OutsideTable, Row } from './outsideTable.js';
import type { Parts } from './parts.js';
import type { Expected, RecordListRequest, RecordPage, StoredRecord, Summary, SummaryRequest } from '../records/forms.js';

const SORTABLE: ReadonlySet<ValueKind> = new Set(['text', 'number', 'boolean', 'date', 'time']);
type SortTerm = { text: string; name: string; descending: boolean; kind: ValueKind };

const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

/** Where a reader of changes is: as the server writes the value, to its last digit, and the key among rows of the same value. */
export type ChangePoint = { at: string; key: string };
export type ChangedRow = { record: StoredRecord; at: string; seen: boolean };

export class OutsideRows {
  constructor(
    private readonly parts: Parts,
    readonly table: OutsideTable,
    private readonly me: FilterScope['me'],
  ) {}

  async read(id: string, author: Author, request: { fields?: string | undefined; include?: string | undefined }): Promise<StoredRecord> {
    if (request.include) this.table.refuse('references are not followed from it, so nothing can be included');
    const row = await this.#withRules(this.table.connection, id, author, ['read']);
    return this.table.present(row, this.#only(request.fields, author), author.trusted);
  }

  /**
   * A row with the rules that allow it, judged by the server itself, so that a list and a read agree.
   * @throws {Problem} not-found, access-refused
   */
  async #withRules(on: OutsideStatements, id: string, author: Author, actions: readonly RecordAction[], locked = false): Promise<Row> {
    const writer = this.#writer(author);
    const tests = author.trusted ? [] : [...new Set<RecordAction>(['read', ...actions])];
    const columns = tests.map((action) => `(${this.#ruleSql(writer, action)}) AS may_${action}`);
    const where = this.#keySql(writer, id);
    const [row] = await this.#asked(() =>
      on.rows<Row>(
        `SELECT ${[this.table.columns, ...columns].join(', ')} FROM ${this.table.sql} WHERE ${where}${locked ? ' FOR UPDATE' : ''}`,
        writer.values,
      ),
    ).catch((error) => {
      if (error instanceof Problem && error.problem === 'invalid-input') return [];
      throw error;
    });
    if (!row) throw missing(this.table.name, id, author);
    for (const action of author.trusted ? [] : actions) {
      if (isTrue(row[`may_${action}`])) continue;
      // Where refusals reveal nothing, a record that may not be read looks missing.
      if (!author.told && !isTrue(row.may_read)) throw missing(this.table.name, id, author);
      throw refusal(this.table, action, 'it is not true of this record', author);
    }
    return row;
  }

  #keySql(writer: OutsideSql, id: string): string {
    // Without a cast, the server reads the id as the column's own type, and its index serves.
    return `${this.table.quoted(this.table.row.key)} = ${writer.put(id)}`;
  }

  async list(request: RecordListRequest, author: Author): Promise<RecordPage> {
    const { table } = this;
    if (request.include) table.refuse('references are not followed from it, so nothing can be included');
    if (request.excerpts) table.refuse('it has no search index, so there are no excerpts');
    this.#demandList(author);
    const sort = this.#sort(request.sort, author);
    const only = this.#only(request.fields, author);
    const writer = this.#writer(author);
    const where = this.#where(writer, request.filter, author);
    if (request.cursor) where.push(afterCursor(writer, table, sort, openCursor(request.cursor, sort, this.parts.cursorSecret)));
    const rows = await this.#asked(() =>
      table.connection.rows<Row>(
        `SELECT ${table.columns} FROM ${table.sql} WHERE ${where.join(' AND ') || 'TRUE'} ORDER BY ${sort.map((term) => orderOf(table, term)).join(', ')} LIMIT ${request.limit + 1}`,
        writer.values,
      ),
    );
    const items = rows.slice(0, request.limit).map((row) => table.present(row, only, author.trusted));
    const last = rows.length > request.limit ? rows[request.limit - 1] : undefined;
    const page: RecordPage = { items };
    if (last) page.next = sealCursor({ sort }, (name) => last[table.columnOf(name) as string], this.parts.cursorSecret);
    if (request.count) page.count = await this.#count(request.filter, author);
    return page;
  }

  async #count(filter: string | undefined, author: Author): Promise<number> {
    const writer = this.#writer(author);
    const where = this.#where(writer, filter, author).join(' AND ') || 'TRUE';
    const [row] = await this.#asked(() =>
      this.table.connection.rows<{ n: unknown }>(`SELECT COUNT(*) AS n FROM ${this.table.sql} WHERE ${where}`, writer.values),
    );
    return Number(row?.n ?? 0);
  }

  /** Rows that changed after a point, the earliest first, as the author may see them. */
  async changedSince(after: ChangePoint | null, filter: string | undefined, author: Author, most: number): Promise<ChangedRow[]> {
    const { table } = this;
    const [column, key] = [table.quoted(table.row.changes as string), table.quoted(table.row.key)];
    const writer = this.#writer(author);
    const test = this.#where(writer, filter, author).join(' AND ') || 'TRUE';
    const isLater = after
      ? `(${column} > ${writer.put(after.at)} OR (${column} = ${writer.put(after.at)} AND ${key} > ${writer.put(after.key)}))`
      : `${column} IS NOT NULL`;
    const rows = await this.#asked(() =>
      table.connection.rows<Row>(
        `SELECT ${table.columns}, ${table.textOf(column)} AS changed_at, (${test}) AS may_see FROM ${table.sql} WHERE ${isLater} ORDER BY ${column}, ${key} LIMIT ${most}`,
        writer.values,
      ),
    );
    return rows.map((row) => ({ record: table.present(row, null, author.trusted), at: String(row.changed_at), seen: isTrue(row.may_see) }));
  }

  /** Where changes are up to now; null while there is none. */
  async latestChange(): Promise<ChangePoint | null> {
    const { table } = this;
    const [column, key] = [table.quoted(table.row.changes as string), table.quoted(table.row.key)];
    const [row] = await this.#asked(() =>
      table.connection.rows<{ at: unknown; key: unknown }>(
        `SELECT ${table.textOf(column)} AS at, ${key} AS ${table.quoted('key')} FROM ${table.sql} WHERE ${column} IS NOT NULL ORDER BY ${column} DESC, ${key} DESC LIMIT 1`,
        [],
      ),
    );
    return row ? { at: String(row.at), key: String(row.key) } : null;
  }

  async summarise(request: SummaryRequest, author: Author): Promise<Summary> {
    const { table } = this;
    this.#demandList(author);
    const writer = this.#writer(author);
    const kindOf = (name: string) => table.kindOf(name, author.trusted);
    const groups = splitGroup(request.group).map(({ term, name, step }) => {
      const kind = this.#kindNamed(name, 'query.group', kindOf(name), author);
      if (!SORTABLE.has(kind)) table.refuse(`\`${name}\` cannot be grouped by`);
      return {
        name: term,
        sql: step ? stepSql(table, name, step, kind) : table.sqlOf(name),
        read: (value: unknown) => groupValue(value, kind, step),
      };
    });
    const measures = readMeasure(request.measure).map(({ term, how, name }) => {
      if (how === 'count') return { name: term, sql: 'COUNT(*)', read: numberOf };
      const kind = this.#kindNamed(name, 'query.measure', kindOf(name), author);
      if ((how === 'sum' || how === 'avg') && kind !== 'number')
        throw invalid('query.measure', `\`${name}\` holds no numbers.`, 'a field of type integer or number');
      const sql = how === 'distinct' ? `COUNT(DISTINCT ${table.sqlOf(name)})` : `${how.toUpperCase()}(${table.sqlOf(name)})`;
      return { name: term, sql, read: (value: unknown) => (how === 'min' || how === 'max' ? groupValue(value, kind) : numberOf(value)) };
    });
    const where = this.#where(writer, request.filter, author).join(' AND ') || 'TRUE';
    const columns = [...groups, ...measures];
    const numbers = groups.map((_, i) => i + 1).join(', ');
    const rows = await this.#asked(() =>
      table.connection.rows<Row>(
        `SELECT ${columns.map(({ sql }, i) => `${sql} AS c${i}`).join(', ')} FROM ${table.sql} WHERE ${where}${numbers ? ` GROUP BY ${numbers} ORDER BY ${numbers}` : ''} LIMIT ${request.limit + 1}`,
        writer.values,
      ),
    );
    const present = (row: Row): JsonObject => Object.fromEntries(columns.map(({ name, read }, i) => [name, read(row[`c${i}`])]));
    return { groups: rows.slice(0, request.limit).map(present), more: rows.length > request.limit };
  }

  async create(body: JsonObject, author: Author): Promise<StoredRecord> {
    this.#demandWritable();
    const { id, values, ownerId } = this.#given(body, author, null);
    return this.#written(author, async (on) => {
      const key = await this.#insert(on, id, ownerId, values);
      return this.#withRules(on, key, author, ['create']);
    });
  }

  async #insert(on: OutsideStatements, id: string | null, ownerId: string | null, values: JsonObject): Promise<string> {
    const { table } = this;
    const writer = this.#writer(null);
    const { key, owner } = table.row;
    const columns: [string, string][] = Object.entries(values).map(([name, value]) => [
      table.columnOf(name) as string,
      writer.put(table.stored(name, value as Json)),
    ]);
    if (id !== null) columns.unshift([key, writer.put(id)]);
    if (owner && ownerId !== null) columns.push([owner, writer.put(ownerId)]);
    const names = columns.map(([column]) => table.quoted(column)).join(', ');
    const given =
      columns.length > 0
        ? `(${names}) VALUES (${columns.map(([, sql]) => sql).join(', ')})`
        : table.kind === 'mariadb'
          ? '() VALUES ()'
          : 'DEFAULT VALUES';
    const [row] = await on.rows<Row>(`INSERT INTO ${table.sql} ${given} RETURNING ${table.quoted(key)}`, writer.values);
    return String(row?.[key]);
  }

  async put(id: string, body: JsonObject, expected: Expected, author: Author): Promise<{ record: StoredRecord; created: boolean }> {
    this.#demandWritable();
    const { createdAt: _c, updatedAt: _u, version: _v, id: given, ...rest } = body;
    if (given !== undefined && given !== id)
      throw invalid('body.id', `The body's id is ${JSON.stringify(given)}, the address's ${id}.`, 'the same id, or none in the body');
    let created = false;
    const record = await this.#written(author, async (on) => {
      const present = await this.#withRules(on, id, author, ['update'], true).catch((error) => {
        if (error instanceof Problem && error.problem === 'not-found' && expected.version === undefined) return null;
        throw error;
      });
      if (!present) {
        created = true;
        const fresh = this.#given(rest, author, null);
        await this.#insert(on, id, fresh.ownerId, fresh.values);
        return this.#withRules(on, id, author, ['create']);
      }
      const before = this.table.present(present);
      checkVersion(before, expected, this.table.name);
      const { values, ownerId } = this.#given(rest, author, ownerOf(before));
      const empty = Object.fromEntries(
        [...this.table.fields].filter(([, { hidden }]) => author.trusted || !hidden).map(([name]) => [name, null]),
      );
      return this.#update(on, id, { ...empty, ...values }, ownerId, author);
    });
    return { record, created };
  }

  async patch(id: string, body: JsonObject, expected: Expected, author: Author): Promise<StoredRecord> {
    this.#demandWritable();
    const { plain, changes } = readChange(body);
    return this.#written(author, async (on) => {
      const row = await this.#withRules(on, id, author, ['update'], true);
      const before = this.table.present(row);
      checkVersion(before, expected, this.table.name);
      const merged = Object.fromEntries(
        Object.entries(plain).map(([name, value]) => [name, mergePatch(own(before, name) ?? null, value as Json)]),
      );
      if (changes) Object.assign(merged, valuesAfter(this.table, before, changes));
      const { values, ownerId } = this.#given(merged, author, ownerOf(before), 'part');
      return this.#update(on, id, values, ownerId, author);
    });
  }

  async #update(on: OutsideStatements, id: string, values: JsonObject, ownerId: string | null, author: Author): Promise<Row> {
    const { table } = this;
    const writer = this.#writer(null);
    const sets = Object.entries(values).map(
      ([name, value]) => `${table.quoted(table.columnOf(name) as string)} = ${writer.put(table.stored(name, value as Json))}`,
    );
    const { version, owner } = table.row;
    if (version) sets.push(`${table.quoted(version)} = COALESCE(${table.quoted(version)}, 0) + 1`);
    if (owner) sets.push(`${table.quoted(owner)} = ${writer.put(ownerId)}`);
    if (sets.length > 0) await on.change(`UPDATE ${table.sql} SET ${sets.join(', ')} WHERE ${this.#keySql(writer, id)}`, writer.values);
    // An update must pass the rule before and after it.
    return this.#withRules(on, id, author, ['update']);
  }

  async remove(id: string, expected: Expected, author: Author): Promise<void> {
    this.#demandWritable();
    await this.#asked(() =>
      this.table.connection.transaction(async (on) => {
        const row = await this.#withRules(on, id, author, ['delete'], true);
        checkVersion(this.table.present(row), expected, this.table.name);
        const writer = this.#writer(null);
        const where = this.#keySql(writer, id);
        await on.change(`DELETE FROM ${this.table.sql} WHERE ${where}`, writer.values);
      }),
    );
  }

  async #written(author: Author, work: (on: OutsideStatements) => Promise<Row>): Promise<StoredRecord> {
    const row = await this.#asked(() => this.table.connection.transaction(work));
    return this.table.present(row, null, author.trusted);
  }

  /** Values to write, checked as those of any collection are. @throws {Problem} invalid-input */
  #given(body: JsonObject, author: Author, present: string | null, extent: 'whole' | 'part' = 'whole') {
    const { id, ownerId, ...values } = body;
    if (id !== undefined && typeof id !== 'string') throw invalid('body.id', 'An id must be a text.', 'the key of the row as a text');
    const check = checkFields(this.table.name, this.table.fields, values, {
      mode: 'closed',
      extent,
      now: this.parts.now(),
      withHidden: author.trusted,
    });
    if (check.problems.length > 0)
      throw new Problem('invalid-input', check.problems[0]?.problem ?? '', {
        fields: check.problems.map((one) => ({ ...one, path: `body.${one.path}` })),
      });
    const owner = author.trusted ? ((ownerId as string | null | undefined) ?? present) : (present ?? author.userId);
    return { id: id ?? null, values: { ...check.values } as JsonObject, ownerId: owner };
  }

  #demandWritable(): void {
    if (!this.table.row.writable) this.table.refuse('it is shown to be read, and is not written from here');
  }

  #writer(author: Author | null): OutsideSql {
    const asking = author ? askingOf(author, this.parts.now()) : { me: { id: null, roles: [] }, now: 0 };
    return new OutsideSql(this.table.kind, (field) => this.table.sqlOf(field), asking);
  }

  #scope(withHidden: boolean): FilterScope {
    return {
      kindOf: (path) => (path.length === 1 ? this.table.kindOf(path[0] as string, withHidden) : null),
      names: () => this.table.names(withHidden),
      search: ['*'],
      ...(this.me ? { me: this.me } : {}),
    };
  }

  /** The conditions of a filter and of the read rule. @throws {Problem} malformed-filter, outside-unsupported */
  #where(writer: OutsideSql, filter: string | undefined, author: Author): string[] {
    const rule = author.trusted ? [] : [`(${this.#ruleSql(writer, 'read')})`];
    if (!filter?.trim()) return rule;
    return [...rule, `(${this.#compiled(writer, this.#read(filter, author.trusted))})`];
  }

  /** @throws {Problem} malformed-filter */
  #read(filter: string, withHidden: boolean): Condition {
    try {
      return this.#known(filter, withHidden);
    } catch (error) {
      if (error instanceof FilterError) throw new Problem('malformed-filter', `${error.message}.`);
      throw error;
    }
  }

  /** Reading a filter costs more than all else of a list. @throws {FilterError} */
  #known(filter: string, withHidden: boolean): Condition {
    const key = `${withHidden} ${filter}`;
    const known = this.table.conditions.get(key);
    if (known) return known;
    const condition = readFilter(filter, this.#scope(withHidden));
    this.table.conditions.set(key, condition);
    return condition;
  }

  #compiled(writer: OutsideSql, condition: Condition): string {
    try {
      return writer.condition(condition);
    } catch (error) {
      if (error instanceof OutsideLimit) this.table.refuse(error.message);
      throw error;
    }
  }

  /** A rule that no longer fits allows no one. */
  #ruleSql(writer: OutsideSql, action: RecordAction): string {
    try {
      return writer.condition(this.#known(this.table.rules[action], true));
    } catch (error) {
      if (error instanceof FilterError || error instanceof OutsideLimit) return 'FALSE';
      throw error;
    }
  }

  /** Says what is wrong with rules, before they are stored. @throws {Problem} malformed-filter, outside-unsupported */
  demandRules(): void {
    for (const rule of Object.values(this.table.rules)) this.#compiled(this.#writer(null), this.#read(rule, true));
  }

  /** For callers who can read nothing at all, a list is refused rather than empty. */
  #demandList(author: Author): void {
    if (author.trusted) return;
    const condition = this.#read(this.table.rules.read, true);
    if (condition.is === 'always' && !condition.value) throw refusal(this.table, 'read', presetReason('nobody', author), author);
  }

  #kindNamed(name: string, path: string, kind: ValueKind | null, author: Author): ValueKind {
    if (kind) return kind;
    const names = [...this.table.names(author.trusted)];
    throw invalid(path, `\`${this.table.name}\` has no field \`${name}\`${nearest(name, names) || '.'}`, `one of: ${names.join(', ')}`);
  }

  #sort(text: string | undefined, author: Author): SortTerm[] {
    const terms = splitTerms(text ?? '').map((part): SortTerm => {
      const name = part.replace(/^[-+]\s*/, '');
      if (name.includes('(') || name.includes('.')) this.table.refuse('it is sorted by its fields alone');
      const kind = this.#kindNamed(name, 'query.sort', this.table.kindOf(name, author.trusted), author);
      if (!SORTABLE.has(kind)) throw invalid('query.sort', `Cannot sort by \`${name}\`.`, 'a text, number, date or time');
      return { text: part.startsWith('-') ? `-${name}` : name, name, descending: part.startsWith('-'), kind };
    });
    if (terms.length > 4) throw invalid('query.sort', 'A list is sorted by at most four fields.', 'up to four fields');
    return terms.some(({ name }) => name === 'id') ? terms : [...terms, { text: 'id', name: 'id', descending: false, kind: 'text' }];
  }

  #only(fields: string | undefined, author: Author): ReadonlySet<string> | null {
    const names = (fields ?? '')
      .split(',')
      .map((name) => name.trim())
      .filter(Boolean);
    for (const name of names)
      this.#kindNamed(name, 'query.fields', name === 'createdAt' ? 'time' : this.table.kindOf(name, author.trusted), author);
    return names.length > 0 ? new Set(names) : null;
  }

  /** Runs statements, and turns what the server answers into problems. */
  async #asked<T>(work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } catch (error) {
      if (isNoKey(error))
        throw new Problem('invalid-input', `The outside server ${this.table.server.name} does not take this: ${(error as Error).message}.`);
      throw outsideProblem(error, this.table.server.name, this.table.slowWords);
    }
  }
}

const ownerOf = (record: StoredRecord): string | null => (record.ownerId as string | null | undefined) ?? null;
const isTrue = (value: unknown): boolean => value === true || Number(value) === 1;
const numberOf = (value: unknown): Json => (value === null || value === undefined ? null : Number(value));

/** The key sorts as its own type does; rows without a value where their server sorts them, so that its indexes serve. */
const sortSql = (table: OutsideTable, { name }: SortTerm): string => (name === 'id' ? table.quoted(table.row.key) : table.sqlOf(name));
const orderOf = (table: OutsideTable, term: SortTerm): string => `${sortSql(table, term)}${term.descending ? ' DESC' : ''}`;

/** Everything after the cursor's row. PostgreSQL takes NULL for greater than all values, MariaDB for less. */
function afterCursor(writer: OutsideSql, table: OutsideTable, sort: readonly SortTerm[], cursor: readonly unknown[]): string {
  const value = (term: SortTerm, at: unknown) => (term.name === 'id' ? writer.put(at) : writer.put(at, term.kind));
  const alternatives = sort.map((term, i) => {
    const equal = sort.slice(0, i).map((one, j) => {
      const sql = sortSql(table, one);
      return cursor[j] === null ? `${sql} IS NULL` : `${sql} = ${value(one, cursor[j])}`;
    });
    const sql = sortSql(table, term);
    const nullsLast = term.name !== 'id' && (table.kind === 'postgresql') !== term.descending;
    const at = cursor[i];
    if (at === null) return [...equal, nullsLast ? 'FALSE' : `${sql} IS NOT NULL`].join(' AND ');
    const beyond = `${sql} ${term.descending ? '<' : '>'} ${value(term, at)}`;
    return [...equal, nullsLast ? `(${beyond} OR ${sql} IS NULL)` : beyond].join(' AND ');
  });
  return `((${alternatives.join(') OR (')}))`;
}

function stepSql(table: OutsideTable, name: string, step: string, kind: ValueKind): string {
  const column = table.sqlOf(name);
  if (kind !== 'time' && kind !== 'date')
    throw invalid('query.group', `\`${name}:${step}\` is not a step of time.`, 'a date or time field with :hour, :day, :week or :month');
  const steps: Record<string, [mariadb: string, postgresql: string]> = {
    hour: [`DATE_FORMAT(${column}, '%Y-%m-%dT%H:00:00.000Z')`, `to_char(date_trunc('hour', ${column}), 'YYYY-MM-DD"T"HH24":00:00.000Z"')`],
    day: [`DATE_FORMAT(${column}, '%Y-%m-%d')`, `to_char(${column}, 'YYYY-MM-DD')`],
    week: [
      `DATE_FORMAT(DATE_SUB(${column}, INTERVAL WEEKDAY(${column}) DAY), '%Y-%m-%d')`,
      `to_char(date_trunc('week', ${column}), 'YYYY-MM-DD')`,
    ],
    month: [`DATE_FORMAT(${column}, '%Y-%m-01')`, `to_char(${column}, 'YYYY-MM-01')`],
  };
  const found = own(steps as never, step) as [string, string] | undefined;
  if (!found) throw invalid('query.group', `\`${step}\` is not a step of time.`, 'hour, day, week or month');
  return table.kind === 'mariadb' ? found[0] : found[1];
}

function groupValue(value: unknown, kind: ValueKind, step?: string): Json {
  if (value === null || value === undefined) return null;
  if (step) return String(value);
  if (kind === 'time') return value instanceof Date ? value.toISOString() : String(value);
  return kind === 'number' ? Number(value) : kind === 'boolean' ? isTrue(value) : String(value);
}
