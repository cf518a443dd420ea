/** Reading and writing records: shape, access rule and version are checked here, whoever calls. */
import { Problem } from '@orchard/contract';
import {
  type AccessRules,
  type Asker,
  checkFields,
  decide,
  type FieldType,
  type Json,
  type JsonObject,
  mergePatch,
  OWNER_ONLY,
  type RecordAction,
  uuidv7,
} from '@orchard/core';
import { isDuplicate } from '../database/connection.js';
import { cutPage, type ListRequest, planList } from '../database/listing.js';
import type { Environment } from '../http/call.js';
import type { Parts } from '../parts.js';
import type { CollectionShape } from './catalogue.js';
import { type RecordRow, stored } from './statements.js';

/** Who reads or writes: `trusted` callers (members, server keys) stand above access rules and may name an owner. */
export type Author = Asker & { trusted: boolean };
/** A version the caller requires: If-Match; `absent` is `If-None-Match: *`. */
export type Expected = { version?: number; absent?: boolean };
export type StoredRecord = JsonObject & { id: string; version: number };
type Fields = { ownerId: string | null; values: JsonObject };

const REREADS = 5;

export class Records {
  constructor(private readonly parts: Parts) {}

  async read(environment: Environment, collection: string, id: string, author: Author, fields?: string): Promise<StoredRecord> {
    const shape = await this.parts.catalogue.get(environment, collection);
    const row = await this.#row(shape, id);
    if (row) this.#demand(shape.rules, 'read', author, row.ownerId, collection);
    else {
      // To somebody who may read nothing here, what is missing and what is hidden look the same.
      if (!author.trusted) this.#demand(shape.rules, 'read', author, author.userId, collection);
      throw missing(collection, id);
    }
    return shape.statements.present(row, readFields(shape, fields)) as StoredRecord;
  }

  async list(environment: Environment, collection: string, request: ListRequest & { fields?: string | undefined }, author: Author) {
    const shape = await this.parts.catalogue.get(environment, collection);
    const { statements } = shape;
    const plan = planList(statements.columns, request, { field: 'id', descending: false }, this.parts.cursorSecret);
    const only = readFields(shape, request.fields);
    const rule = author.trusted ? 'TRUE' : shape.rules.read;
    if (rule !== 'TRUE' && rule !== "ownerId = me('id')") this.#demand(shape.rules, 'read', author, null, collection);
    const owned = rule === "ownerId = me('id')";
    if (owned && !author.userId) this.#demand(shape.rules, 'read', author, null, collection);
    const names = only
      ? new Set(['id', 'version', ...only, ...plan.sort.map(({ field }) => field), 'createdAt', 'updatedAt', 'ownerId'])
      : null;
    const selected = [...statements.columns]
      .filter(([name]) => !names || names.has(name))
      .map(([, { sql }]) => sql)
      .join(', ');
    const rows = await this.parts.database.rows<RecordRow>(
      `SELECT ${selected} FROM ${statements.table} WHERE ${owned ? 'ownerId = ? AND ' : ''}${plan.where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
      owned ? [author.userId, ...plan.values] : plan.values,
    );
    return cutPage(
      rows,
      plan,
      this.parts.cursorSecret,
      (row, field) => row[field],
      (row) => statements.present(row, only) as StoredRecord,
    );
  }

  async create(environment: Environment, collection: string, body: JsonObject, author: Author): Promise<StoredRecord> {
    const { id = uuidv7(this.parts.now(), this.parts.random(10)), ...rest } = body;
    if (typeof id !== 'string' || !/^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$/.test(id)) {
      throw invalid(
        'body.id',
        'An id is text of letters, digits, ., _ or -.',
        'a letter or digit, then up to 63 letters, digits, ., _ or -',
      );
    }
    const fields = this.#ownership(rest, author);
    const shape = await this.#fit(environment, collection, fields.values, 'create', author, fields.ownerId);
    return this.#insert(shape, id, fields, environment);
  }

  /** Replaces or creates. @returns the record, and whether it is new */
  async put(
    environment: Environment,
    collection: string,
    id: string,
    body: JsonObject,
    author: Author,
    expected: Expected,
  ): Promise<{ record: StoredRecord; created: boolean }> {
    const { id: given, ...rest } = withoutEcho(body);
    if (given !== undefined && given !== id)
      throw invalid('body.id', `The body's id is ${JSON.stringify(given)}, the address's ${id}.`, 'the same id, or none in the body');
    for (let round = 0; round < REREADS; round++) {
      const known = await this.parts.catalogue.find(environment, collection);
      const row = known && (await this.#row(known, id));
      const { ownerId: named, ...unowned } = rest;
      const sent = row && named === row.ownerId ? unowned : rest;
      const fields = this.#ownership(sent, author);
      if (!row) {
        if (expected.version !== undefined) throw missing(collection, id);
        const shape = await this.#fit(environment, collection, fields.values, 'create', author, fields.ownerId);
        try {
          return { record: await this.#insert(shape, id, fields, environment), created: true };
        } catch (error) {
          if (error instanceof Problem && error.problem === 'already-exists' && !expected.absent) continue;
          throw error;
        }
      }
      checkVersion(row, expected, collection);
      this.#demand(known.rules, 'update', author, row.ownerId, collection);
      const shape = await this.#fit(environment, collection, fields.values, 'update', author, row.ownerId);
      const ownerId = sent.ownerId === undefined ? row.ownerId : fields.ownerId;
      const record = await this.#update(shape, row, { ownerId, values: fields.values }, [...shape.fields.keys()], environment);
      if (record) return { record, created: false };
    }
    throw await this.#conflict(environment, collection, id);
  }

  async patch(
    environment: Environment,
    collection: string,
    id: string,
    patch: JsonObject,
    author: Author,
    expected: Expected,
  ): Promise<StoredRecord> {
    for (let round = 0; round < REREADS; round++) {
      const shape = await this.parts.catalogue.get(environment, collection);
      const row = await this.#row(shape, id);
      if (!row) throw missing(collection, id);
      checkVersion(row, expected, collection);
      this.#demand(shape.rules, 'update', author, row.ownerId, collection);
      const { values: changes, ownerId } = this.#ownership(patch, author);
      const before = shape.statements.present(row);
      const merged = Object.fromEntries(
        Object.keys(changes).map((name) => [name, mergePatch(before[name] ?? null, changes[name] as Json)]),
      );
      const fitted = await this.#fit(environment, collection, merged, 'update', author, row.ownerId);
      const record = await this.#update(
        fitted,
        row,
        { ownerId: patch.ownerId === undefined ? row.ownerId : ownerId, values: merged },
        Object.keys(merged),
        environment,
      );
      if (record) return record;
    }
    throw await this.#conflict(environment, collection, id);
  }

  async remove(environment: Environment, collection: string, id: string, author: Author, expected: Expected): Promise<void> {
    const shape = await this.parts.catalogue.get(environment, collection);
    for (let round = 0; round < REREADS; round++) {
      const row = await this.#row(shape, id);
      if (!row) throw missing(collection, id);
      checkVersion(row, expected, collection);
      this.#demand(shape.rules, 'delete', author, row.ownerId, collection);
      const { affectedRows } = await this.parts.database.change(shape.statements.remove, [id, row.version]);
      if (affectedRows === 1) return this.parts.changes.wake(environment.id);
    }
    throw await this.#conflict(environment, collection, id);
  }

  async #row(shape: CollectionShape, id: string): Promise<RecordRow | null> {
    return (await this.parts.database.rows<RecordRow>(shape.statements.read, [id]))[0] ?? null;
  }

  #demand(rules: AccessRules, action: RecordAction, author: Author, ownerId: string | null, collection: string): void {
    if (author.trusted) return;
    const decision = decide(rules[action], author, ownerId);
    if (!decision.allowed) {
      throw new Problem('access-refused', `The ${action} rule of \`${collection}\`, ${rules[action]}, refuses this: ${decision.why}.`);
    }
  }

  /** Separates the owner from the fields. Only trusted callers may name one; others own what they create. */
  #ownership(body: JsonObject, author: Author): Fields {
    if (!author.trusted || body.ownerId === undefined) return { ownerId: author.userId, values: body };
    const { ownerId, ...values } = body;
    if (ownerId !== null && (typeof ownerId !== 'string' || !/^[0-9a-f-]{36}$/.test(ownerId)))
      throw invalid('body.ownerId', 'The owner is named by a user id.', 'a user id, or null');
    return { ownerId, values };
  }

  /** Checks the fields, and in an open environment makes the collection and fields they need. */
  async #fit(
    environment: Environment,
    collection: string,
    values: JsonObject,
    action: RecordAction,
    author: Author,
    ownerId: string | null,
  ): Promise<CollectionShape> {
    let shape = await this.parts.catalogue.find(environment, collection);
    if (!shape && environment.mode === 'closed') {
      throw new Problem(
        'collection-unknown',
        `\`${environment.app}/${environment.name}\` is closed and has no collection \`${collection}\`. Make it first, or open the environment.`,
      );
    }
    this.#demand(shape?.rules ?? OWNER_ONLY, action, author, ownerId, collection);
    for (let round = 0; round < REREADS; round++) {
      const fields: ReadonlyMap<string, FieldType> = shape?.fields ?? new Map();
      const check = checkFields(collection, fields, values, environment.mode);
      if (check.problems.length > 0) {
        const fieldProblems = check.problems.map((problem) => ({ ...problem, path: `body.${problem.path}` }));
        const more = fieldProblems.length > 1 ? ` And ${fieldProblems.length - 1} more, see \`fields\`.` : '';
        throw new Problem('invalid-input', `${fieldProblems[0]?.problem}${more}`, { fields: fieldProblems });
      }
      if (shape && check.added.size === 0 && check.widened.length === 0) return shape;
      shape = await this.parts.catalogue.extend(environment, collection, check.added, check.widened);
    }
    throw new Problem('unexpected', `The fields of \`${collection}\` kept changing while this was stored. Send it again.`);
  }

  async #insert(shape: CollectionShape, id: string, { ownerId, values }: Fields, environment: Environment): Promise<StoredRecord> {
    const now = new Date(this.parts.now());
    const names = ['`id`', '`createdAt`', '`updatedAt`', '`version`', '`ownerId`'];
    const places = ['?', '?', '?', '1', '?'];
    const bound: unknown[] = [id, now, now, ownerId];
    for (const [name, value] of Object.entries(values)) {
      const type = shape.fields.get(name);
      if (!type) continue; // a null for a field nobody knows yet decides nothing
      const field = stored(type, value);
      names.push(`\`${name}\``);
      places.push(field.sql);
      bound.push(...field.values);
    }
    try {
      await this.parts.database.change(`INSERT INTO ${shape.statements.table} (${names.join(', ')}) VALUES (${places.join(', ')})`, bound);
    } catch (error) {
      if (isDuplicate(error))
        throw new Problem(
          'already-exists',
          `\`${shape.name}\` has a record with the id ${id} already. Choose another id, or replace it with PUT.`,
        );
      throw error;
    }
    this.parts.changes.wake(environment.id);
    return recordFrom(shape, { id, createdAt: now.toISOString(), updatedAt: now.toISOString(), version: 1, ownerId }, values);
  }

  /** Writes the next version over `row`'s; null when somebody else was quicker. */
  async #update(
    shape: CollectionShape,
    row: RecordRow,
    { ownerId, values }: Fields,
    names: string[],
    environment: Environment,
  ): Promise<StoredRecord | null> {
    const now = new Date(this.parts.now());
    const sets = ['`version` = `version` + 1', '`updatedAt` = ?', '`ownerId` = ?'];
    const bound: unknown[] = [now, ownerId];
    for (const name of names) {
      const type = shape.fields.get(name);
      if (!type) continue;
      const field = stored(type, values[name]);
      sets.push(`\`${name}\` = ${field.sql}`);
      bound.push(...field.values);
    }
    const { affectedRows } = await this.parts.database.change(
      `UPDATE ${shape.statements.table} SET ${sets.join(', ')} WHERE id = ? AND version = ?`,
      [...bound, row.id, row.version],
    );
    if (affectedRows === 0) return null;
    this.parts.changes.wake(environment.id);
    const before = shape.statements.present(row);
    const after = Object.fromEntries(
      [...shape.fields.keys()].map((name) => [name, names.includes(name) ? (values[name] ?? null) : (before[name] ?? null)]),
    );
    return recordFrom(
      shape,
      { id: row.id, createdAt: row.createdAt.toISOString(), updatedAt: now.toISOString(), version: row.version + 1, ownerId },
      after,
    );
  }

  async #conflict(environment: Environment, collection: string, id: string): Promise<Problem> {
    const row = await this.#row(await this.parts.catalogue.get(environment, collection), id);
    return new Problem(
      'version-conflict',
      `Others kept changing ${collection}/${id} while this was stored; it is at version ${row?.version}. Read it and try again.`,
      row ? { currentVersion: row.version } : {},
    );
  }
}

function recordFrom(shape: CollectionShape, system: JsonObject & { id: string; version: number }, values: JsonObject): StoredRecord {
  const record: StoredRecord = { ...system };
  for (const name of shape.fields.keys()) record[name] = values[name] ?? null;
  return record;
}

/** A record that was read may be sent back whole: its system members are then only an echo. */
function withoutEcho(body: JsonObject): JsonObject {
  const { createdAt: _c, updatedAt: _u, version: _v, ...rest } = body;
  return rest;
}

const missing = (collection: string, id: string) => new Problem('not-found', `\`${collection}\` has no record \`${id}\`.`);
const invalid = (path: string, problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path, problem, expected }] });

function checkVersion(row: RecordRow, expected: Expected, collection: string): void {
  if (expected.absent)
    throw new Problem('version-conflict', `\`${collection}\` has a record ${row.id} already, at version ${row.version}.`, {
      currentVersion: row.version,
    });
  if (expected.version === undefined || expected.version === row.version) return;
  throw new Problem(
    'version-conflict',
    `If-Match names version ${expected.version} of ${collection}/${row.id}; it is at version ${row.version} now. Read it again and apply your change to that.`,
    { currentVersion: row.version },
  );
}

function readFields(shape: CollectionShape, text: string | undefined): ReadonlySet<string> | undefined {
  if (!text) return undefined;
  const names = text
    .split(',')
    .map((name) => name.trim())
    .filter(Boolean);
  for (const name of names) {
    if (!shape.statements.columns.has(name))
      throw invalid(
        'query.fields',
        `\`${shape.name}\` has no field \`${name}\`.`,
        `some of: ${[...shape.statements.columns.keys()].join(', ')}`,
      );
  }
  return new Set(names);
}
