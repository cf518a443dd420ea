/** One outside table: its fields and columns, how a row is presented, and what it cannot do. */
import { LRUCache } from 'lru-cache';
import { type Collection, type OutsideFacts, Problem, type SeenTable } from '@orchard/contract';
import {
  type AccessRules,
  type Condition,
  type Field,
  type Fields,
  type Json,
  type JsonObject,
  kindOfField,
  type ValueKind,
} from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { OutsideConnection } from './connection.js';
import type { ServerRow, TableRow } from './store.js';
import type { StoredRecord } from '../records/forms.js';

export type OutsideField = { name: string; column: string; type: Field['type']; hidden?: boolean };
export type Row = Record<string, unknown>;

export class OutsideTable {
  readonly name: string;
  readonly kind: 'mariadb' | 'postgresql';
  readonly fields: Fields;
  readonly rules: AccessRules;
  /** Its name in SQL. */
  readonly sql: string;
  readonly seen: SeenTable;
  /** Filters and rules that were read for it. */
  readonly conditions = new LRUCache<string, Condition>({ max: 2_000 });
  /** Differs as soon as the table, how it is shown, or its server does. */
  readonly stamp: string;
  /** Every column that a record is made of, as SQL. */
  readonly columns: string;
  readonly #columns: ReadonlyMap<string, string>;
  readonly #types: ReadonlyMap<string, SeenTable['columns'][number]>;

  constructor(
    readonly environment: Environment,
    readonly row: TableRow,
    readonly server: ServerRow,
    readonly connection: OutsideConnection,
  ) {
    const fields = row.fields as OutsideField[];
    this.name = row.name;
    this.kind = server.kind as OutsideTable['kind'];
    this.fields = new Map(fields.map(({ name, type, hidden }): [string, Field] => [name, { type, ...(hidden ? { hidden } : {}) }]));
    this.#columns = new Map(fields.map(({ name, column }) => [name, column]));
    this.rules = row.rules;
    this.seen = row.seen as SeenTable;
    this.#types = new Map(this.seen.columns.map((one) => [one.column, one]));
    this.stamp = [row.updatedAt, row.checkedAt, server.updatedAt].map((at) => at.getTime()).join();
    this.sql =
      this.kind === 'postgresql'
        ? row.table
            .split('.')
            .map((part) => this.quoted(part))
            .join('.')
        : this.quoted(row.table);
    const names = [row.key, row.version, row.owner, this.columnOf('updatedAt'), ...this.#columns.values()];
    this.columns = [...new Set(names.filter((name) => name !== null))].map((name) => this.quoted(name)).join(', ');
  }

  /** A column as its server writes it, to the last digit: a Date here holds milliseconds, a column may hold more. */
  textOf(sql: string): string {
    return this.kind === 'mariadb' ? `CAST(${sql} AS CHAR)` : `${sql}::text`;
  }

  /** A name as SQL (SQL:2016 part 2, 5.2: a quote inside is doubled). */
  quoted(name: string): string {
    const quote = this.kind === 'mariadb' ? '`' : '"';
    return `${quote}${name.replaceAll(quote, quote + quote)}${quote}`;
  }

  /** The column of a field or a system member. */
  columnOf(field: string): string | null {
    switch (field) {
      case 'id':
        return this.row.key;
      case 'version':
        return this.row.version;
      case 'ownerId':
        return this.row.owner;
      case 'updatedAt':
        return this.#changesAreTimes ? this.row.changes : null;
      default:
        return this.#columns.get(field) ?? null;
    }
  }

  /** A column to compare, as SQL. Texts of other types, such as uuids, are compared as texts. */
  sqlOf(field: string): string {
    const column = this.columnOf(field) as string;
    const type = this.#types.get(column)?.type ?? '';
    const isPlain = this.kind === 'mariadb' || /^(text|character|varchar|bpchar)/.test(type) || this.kindOf(field) !== 'text';
    return isPlain ? this.quoted(column) : `${this.quoted(column)}::text`;
  }

  get #changesAreTimes(): boolean {
    return this.#types.get(this.row.changes ?? '')?.as === 'time';
  }

  /** The kind of a name in filters; null for one that it does not have. */
  kindOf(field: string, withHidden = true): ValueKind | null {
    const of = this.fields.get(field);
    if (of) return of.hidden && !withHidden ? null : kindOfField(of);
    if (this.columnOf(field) === null) return null;
    return field === 'version' ? 'number' : field === 'updatedAt' ? 'time' : 'text';
  }

  *names(withHidden: boolean): Generator<string> {
    for (const name of ['id', 'version', 'ownerId', 'updatedAt', ...this.fields.keys()]) if (this.kindOf(name, withHidden)) yield name;
  }

  /** A row as the API returns it. @throws {Problem} outside-changed for a value of another type */
  present(row: Row, only: ReadonlySet<string> | null = null, withHidden = true): StoredRecord {
    const { key, version, owner } = this.row;
    const record: JsonObject = { id: String(row[key]) };
    const updated = this.columnOf('updatedAt');
    if (updated && (!only || only.has('updatedAt'))) record.updatedAt = asTime(row[updated]);
    const values = [...this.fields].map(([name, { type }]): [string, Json] => [
      name,
      this.#value(name, type, row[this.#columns.get(name) as string]),
    ]);
    record.version = version ? Number(row[version] ?? 0) : hashOf(values);
    if (!only || only.has('ownerId')) record.ownerId = owner && row[owner] != null ? String(row[owner]) : null;
    for (const [name, value] of values)
      if ((!only || only.has(name)) && (withHidden || !this.fields.get(name)?.hidden)) record[name] = value;
    return record as StoredRecord;
  }

  #value(name: string, type: Field['type'], value: unknown): Json {
    if (value === null || value === undefined) return null;
    const read = READ[type]?.(value);
    if (read !== undefined) return read;
    const shown = JSON.stringify(value instanceof Date ? value.toISOString() : value).slice(0, 60);
    throw new Problem('outside-changed', `\`${name}\` of \`${this.name}\` is a field of type ${type}, and its column holds ${shown}.`);
  }

  /** A value to store. */
  stored(field: string, value: Json): unknown {
    if (value === null) return null;
    const type = this.fields.get(field)?.type;
    if (type === 'time') return new Date(value as string);
    if (type === 'list' || type === 'object') return JSON.stringify(value);
    return type === 'boolean' && this.kind === 'mariadb' ? Number(value) : value;
  }

  /** Why a statement on it may be slow. */
  get slowWords(): string {
    const indexed = this.indexed;
    const size = this.seen.rows === null ? 'all rows' : `all of about ${this.seen.rows.toLocaleString('en')} rows`;
    return `Lists that filter or sort by other fields than ${indexed.join(', ') || 'its key'} read ${size}: an index there would help.`;
  }

  /** Names whose column has an index. */
  get indexed(): string[] {
    const columns = new Set(this.seen.columns.filter((one) => one.indexed).map(({ column }) => column));
    return [...this.names(true)].filter((name) => columns.has(this.columnOf(name) as string));
  }

  get cannot(): string[] {
    const { writable, changes, version, owner } = this.row;
    return [
      ...(writable ? [] : ['be written: it is shown to be read']),
      ...(changes
        ? ['tell live readers of deletions: it is looked at for changes']
        : ['be followed live: no column is named that tells of changes']),
      ...(version ? [] : ['count versions: a hash of the row stands for the version']),
      ...(owner ? [] : ['belong to users: no column is named for the owner']),
      'have a history, a change feed, constraints, indexes or references of ours',
      'be searched, or be filtered by places and lists of objects',
      'take part in batches, imports and includes',
    ];
  }

  /** @throws {Problem} outside-unsupported */
  refuse(what: string): never {
    throw new Problem('outside-unsupported', `\`${this.name}\` is the table ${this.row.table} on ${this.server.name}: ${what}.`);
  }

  get facts(): OutsideFacts {
    const { table, key, version, owner, changes, writable, checkedAt } = this.row;
    return {
      server: this.server.name,
      table,
      key,
      version,
      owner,
      changes,
      writable,
      columns: [...this.#columns].map(([field, column]) => ({ field, column })),
      indexed: this.indexed,
      cannot: this.cannot,
      readiness: readinessOf(this),
      checkedAt: checkedAt.toISOString(),
    };
  }

  document(): Collection {
    return {
      name: this.name,
      fields: [...this.fields].map(([name, field]) => ({ name, ...field })) as Collection['fields'],
      rules: this.rules,
      records: this.seen.rows ?? 0,
      bytes: 0,
      grownBy: null,
      indexes: [],
      dropped: [],
      createdAt: this.row.createdAt.toISOString(),
      outside: this.facts,
    };
  }
}

/** Above this, reading the whole table hurts. */
const MANY = 100_000;

/** What must be so for the table to be of use, and what will hurt, before it does. */
function readinessOf({ row, seen, fields }: OutsideTable): OutsideFacts['readiness'] {
  const items: OutsideFacts['readiness'] = [];
  const add = (what: string, ready: boolean, text: string) => items.push({ what, ready, text });
  const columnNamed = (name: string | null) => seen.columns.find(({ column }) => column === name);
  const key = columnNamed(row.key);
  add('key', Boolean(key), key ? `${row.key} stands for the id.` : `The key column ${row.key} is not there.`);
  if (key && !seen.view)
    add(
      'key index',
      key.unique,
      key.unique
        ? 'Its index finds a record at once.'
        : `${row.key} has no unique index: reading one record reads ${sizeOf(seen)}, and two rows may have the same id.`,
    );
  for (const { name, column, type } of row.fields as OutsideField[]) {
    const there = columnNamed(column);
    if (!there) add(name, false, `The column ${column} of ${name} is not there any more.`);
    else if (there.as !== type && !(isJson(type) && (there.as === 'object' || there.as === 'text')))
      add(name, false, `${name} is of type ${type}, and its column ${column} is ${there.type} now.`);
  }
  if (row.changes) {
    const changes = columnNamed(row.changes);
    const serves = Boolean(changes?.indexed) || (seen.rows ?? 0) < MANY;
    add(
      'changes',
      Boolean(changes) && serves,
      !changes
        ? `The column ${row.changes} for changes is not there.`
        : serves
          ? `${row.changes} is looked at for changes.`
          : `${row.changes} has no index: each look at it reads ${sizeOf(seen)}.`,
    );
  }
  if ((seen.rows ?? 0) >= MANY) {
    const bare = [...fields.keys()].filter(
      (name) => !columnNamed((row.fields as OutsideField[]).find((one) => one.name === name)?.column ?? null)?.indexed,
    );
    add(
      'indexes',
      bare.length === 0,
      bare.length === 0
        ? 'Every field has an index.'
        : `Lists that filter or sort by ${bare.join(', ')} read ${sizeOf(seen)}: those have no index.`,
    );
  }
  return items;
}

/** Documents may stand in columns of texts. */
const isJson = (type: Field['type']): boolean => type === 'object' || type === 'list';

const sizeOf = ({ rows }: SeenTable): string => (rows === null ? 'the whole table' : `all of about ${rows.toLocaleString('en')} rows`);

/** 31 bits of a hash of the values (FNV-1a), so that a changed row has another version. */
function hashOf(values: readonly [string, Json][]): number {
  const text = JSON.stringify(values);
  let hash = 0x811c9dc5;
  for (let i = 0; i < text.length; i++) hash = Math.imul(hash ^ text.charCodeAt(i), 0x01000193);
  return hash >>> 1 || 1;
}

const asTime = (value: unknown): Json => (value instanceof Date ? value.toISOString() : null);

/** Values of the drivers in the API's form; undefined for one of another type. */
const READ: Partial<Record<Field['type'], (value: unknown) => Json | undefined>> = {
  text: (value) => (typeof value === 'string' ? value : typeof value === 'number' || typeof value === 'bigint' ? String(value) : undefined),
  choice: (value) => (typeof value === 'string' ? value : undefined),
  integer: (value) =>
    Number.isSafeInteger(Number(value)) && typeof value !== 'boolean' && value !== '' && !(value instanceof Date)
      ? Number(value)
      : undefined,
  number: (value) =>
    Number.isFinite(Number(value)) && typeof value !== 'boolean' && value !== '' && !(value instanceof Date) ? Number(value) : undefined,
  boolean: (value) => (typeof value === 'boolean' ? value : value === 0 || value === 1 ? value === 1 : undefined),
  date: (value) => (typeof value === 'string' && /^\d{4}-\d{2}-\d{2}$/.test(value) ? value : undefined),
  time: (value) => (value instanceof Date && !Number.isNaN(value.getTime()) ? value.toISOString() : undefined),
  list: jsonOf,
  object: jsonOf,
};

/** A document: the table's owner says whether it is a list or an object. */
function jsonOf(value: unknown): Json | undefined {
  try {
    const read = typeof value === 'string' ? (JSON.parse(value) as unknown) : value;
    return typeof read === 'object' ? (read as Json) : undefined;
  } catch {
    return undefined;
  }
}
