/** Changes of a collection's fields: first a preview of what fits, then the change itself. */
import { type ChangePreview, Problem, type SchemaChange } from '@orchard/contract';
import {
  checkField,
  convertValue,
  type Field,
  type Fields,
  fieldNameProblem,
  fromJsonSchema,
  type Json,
  type JsonObject,
  MAX_FIELDS,
  misfitOf,
  RECORD_ACTIONS,
  toJsonSchema,
} from '@orchard/core';
import type { PoolConnection, RowDataPacket } from 'mysql2/promise';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { columnComment, columnSql, columnType, presentValue, spatialColumn } from './columns.js';
import { readRule } from './query.js';
import type { CollectionShape, DroppedField } from './shape.js';
import { OnlineChange } from './onlineChange.js';
import { viewTable } from './tables.js';

/** How long the values of a dropped field can be brought back. */
export const RECOVERY_MS = 7 * 24 * 3_600_000;
const EXAMPLES = 5;
const CHUNK = 2_000;
export type Misfits = 'refuse' | 'clear';
type Row = { id: string; value: unknown };

export class SchemaChanges {
  constructor(private readonly parts: Parts) {}

  /** How many records fit a change, which do not, and what else it touches. */
  async preview(environment: Environment, collection: string, change: SchemaChange): Promise<ChangePreview> {
    const shape = await this.parts.catalogue.get(environment, collection);
    const notes = await this.#notes(environment, shape, change);
    const blocked = await this.#blocked(environment, shape, change);
    const preview: ChangePreview = { change, fits: 0, misfits: 0, examples: [], notes, blocked };
    if (!blocked && (change.change === 'set' || change.change === 'add')) await this.#count(shape, change, preview);
    else preview.fits = Number((await environment.db.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM ${shape.table}`))[0]?.n ?? 0);
    return preview;
  }

  /** @throws {Problem} records-do-not-fit, invalid-input, already-exists, not-found */
  async apply(environment: Environment, collection: string, change: SchemaChange, misfits: Misfits): Promise<CollectionShape> {
    const preview = await this.preview(environment, collection, change);
    if (preview.blocked)
      throw new Problem(change.change === 'rename' || change.change === 'add' ? 'already-exists' : 'invalid-input', preview.blocked);
    if (preview.misfits > 0 && (misfits === 'refuse' || needsAll(change))) throw misfitProblem(collection, preview, needsAll(change));
    await this.parts.catalogue.change(environment, collection, (connection) =>
      this.#make(connection, environment, collection, change, (example) => {
        // Written after the records were counted.
        if (misfits === 'refuse' || needsAll(change))
          throw misfitProblem(collection, { ...preview, misfits: 1, examples: [example] }, needsAll(change));
      }),
    );
    return this.parts.catalogue.get(environment, collection);
  }

  /** The changes that bring a collection's fields to a JSON Schema. @throws {Problem} invalid-input */
  async changesTo(environment: Environment, collection: string, schema: JsonObject): Promise<SchemaChange[]> {
    const shape = await this.parts.catalogue.get(environment, collection);
    const { fields, problems } = fromJsonSchema(schema);
    if (problems[0])
      throw new Problem('invalid-input', `${problems[0].path}: ${problems[0].problem}`, {
        fields: problems.map((problem) => ({ ...problem, path: `body.${problem.path}` })),
      });
    const changes: SchemaChange[] = [];
    for (const name of shape.fields.keys()) if (!fields.has(name)) changes.push({ change: 'drop', name });
    for (const [name, field] of fields) {
      const present = shape.fields.get(name);
      if (!present) changes.push({ change: 'add', name, field: field as never });
      else if (!isSame(present, field)) changes.push({ change: 'set', name, field: field as never });
    }
    return changes;
  }

  schemaOf(environment: Environment, shape: CollectionShape): JsonObject {
    return toJsonSchema(shape.name, shape.fields, environment.mode === 'closed');
  }

  /** Ends dropped fields whose time is over. */
  async purge(environment: Environment): Promise<void> {
    const limit = this.parts.now() - RECOVERY_MS;
    for (const shape of await this.parts.catalogue.all(environment)) {
      const over = shape.dropped.filter(({ at }) => Date.parse(at) < limit);
      if (over.length > 0)
        await this.parts.catalogue.change(environment, shape.name, (connection) =>
          connection.query(`ALTER TABLE ${shape.table} ${over.map(({ column }) => `DROP COLUMN IF EXISTS \`${column}\``).join(', ')}`),
        );
    }
  }

  async #blocked(environment: Environment, shape: CollectionShape, change: SchemaChange): Promise<string | null> {
    const { fields } = shape;
    if (change.change === 'recover') {
      const dropped = droppedOf(shape, change.column);
      return fieldNameProblem(change.as ?? dropped.name, fields.keys())?.problem ?? null;
    }
    if (change.change === 'add') {
      if (fields.size >= MAX_FIELDS) return `\`${shape.name}\` has ${fields.size} fields, and a collection holds at most ${MAX_FIELDS}.`;
      return (
        fieldNameProblem(change.name, fields.keys())?.problem ??
        (await this.#wrongField(environment, shape, change.name, change.field as Field))
      );
    }
    if (!fields.has(change.name)) throw new Problem('not-found', `\`${shape.name}\` has no field \`${change.name}\`.`);
    if (change.change === 'set') return this.#wrongField(environment, shape, change.name, change.field as Field);
    const rules = await this.#rulesOn(environment, shape, change.name);
    if (rules.length > 0)
      return `The ${rules.join(' and ')} rule${rules.length > 1 ? 's' : ''} of \`${shape.name}\` name${rules.length > 1 ? '' : 's'} \`${change.name}\`. Change ${rules.length > 1 ? 'them' : 'it'} first.`;
    return change.change === 'rename'
      ? (fieldNameProblem(
          change.to,
          [...fields.keys()].filter((name) => name !== change.name),
        )?.problem ?? null)
      : null;
  }

  async #wrongField(environment: Environment, shape: CollectionShape, name: string, field: Field): Promise<string | null> {
    const [problem] = checkField(name, field);
    if (problem) return `${problem.problem} Expected ${problem.expected}.`;
    const target =
      field.type === 'reference' && field.to !== 'users' && field.to !== shape.name
        ? await this.parts.catalogue.find(environment, field.to as string)
        : shape;
    return target ? null : `There is no collection \`${field.to}\` to refer to.`;
  }

  /** Rules that would no longer fit without the field. */
  async #rulesOn(environment: Environment, shape: CollectionShape, name: string): Promise<string[]> {
    const shapes = await this.parts.catalogue.shapes(environment, shape.name);
    const without: CollectionShape = { ...shape, fields: new Map([...shape.fields].filter(([field]) => field !== name)) };
    return RECORD_ACTIONS.filter(
      (action) => !('broken' in readRule(shapes, shape, shape.rules[action])) && 'broken' in readRule(shapes, without, shape.rules[action]),
    );
  }

  async #notes(environment: Environment, shape: CollectionShape, change: SchemaChange): Promise<string[]> {
    const notes: string[] = [];
    if (change.change === 'recover' || change.change === 'add') return notes;
    const indexes = shape.indexes.filter(({ fields, name }) => fields.includes(change.name) && !name.startsWith('_'));
    if (indexes.length > 0 && (change.change === 'drop' || change.change === 'set'))
      notes.push(
        `The index ${indexes.map(({ name }) => `\`${name}\``).join(', ')} ${change.change === 'drop' ? 'goes with it' : 'is made again'}.`,
      );
    if (change.change === 'drop') notes.push('Its values can be brought back for 7 days.');
    const present = shape.fields.get(change.name);
    if (change.change === 'set' && present && present.type !== change.field.type)
      notes.push(`Values become ${change.field.type}; those of type ${present.type} can be brought back for 7 days.`);
    const views = await environment.db.rows<{ name: string }>(
      `SELECT name FROM ${environment.db.of(viewTable)} WHERE collection = ? AND query LIKE ?`,
      [shape.name, `%${change.name}%`],
    );
    if (views.length > 0 && change.change !== 'set')
      notes.push(`Saved views that may name it: ${views.map(({ name }) => name).join(', ')}.`);
    return notes;
  }

  /** Goes through all records, a chunk at a time. */
  async #count(shape: CollectionShape, change: Extract<SchemaChange, { change: 'set' | 'add' }>, preview: ChangePreview): Promise<void> {
    const field = change.field as Field;
    const present = change.change === 'set' ? (shape.fields.get(change.name) as Field) : null;
    const note = (id: string, value: Json, problem: string) => {
      preview.misfits++;
      if (preview.examples.length < EXAMPLES) preview.examples.push({ id, value, problem });
    };
    for await (const rows of this.#chunks(shape, present ? change.name : null)) {
      for (const { id, value } of rows) {
        const old = present ? presentValue(present.type, value) : null;
        const problem = valueProblem(shape.name, change.name, field, old, present?.type === field.type, present === null);
        if (problem) note(id, old, problem);
        else preview.fits++;
      }
    }
    if (field.unique && !present?.unique && present) await this.#countTwins(shape, change.name, preview);
    const dangling = field.type === 'reference' && present && (present.type !== 'reference' || present.to !== field.to);
    if (dangling) await this.#countDangling(shape, change.name, field, preview);
  }

  async #countTwins(shape: CollectionShape, name: string, preview: ChangePreview): Promise<void> {
    const twins = await shape.db.rows<{ id: string; n: number; value: unknown }>(
      `SELECT MIN(id) AS id, COUNT(*) AS n, \`${name}\` AS value FROM ${shape.table} WHERE \`${name}\` IS NOT NULL GROUP BY \`${name}\` HAVING COUNT(*) > 1 LIMIT 1000`,
    );
    for (const { id, n, value } of twins) {
      preview.misfits += Number(n);
      preview.fits -= Number(n);
      if (preview.examples.length < EXAMPLES)
        preview.examples.push({
          id,
          value: presentValue(shape.fields.get(name)?.type ?? 'text', value),
          problem: `${n} records have this value`,
        });
    }
  }

  async #countDangling(shape: CollectionShape, name: string, field: Field, preview: ChangePreview): Promise<void> {
    const target = field.to === 'users' ? '_users' : (field.to as string);
    const found = await shape.db.rows<{ id: string; value: unknown }>(
      `SELECT t.id, t.\`${name}\` AS value FROM ${shape.table} t LEFT JOIN ${shape.db.collection(target)} r ON r.id = t.\`${name}\` WHERE t.\`${name}\` IS NOT NULL AND r.id IS NULL LIMIT 10000`,
    );
    for (const { id, value } of found) {
      preview.misfits++;
      preview.fits--;
      if (preview.examples.length < EXAMPLES)
        preview.examples.push({ id, value: value as Json, problem: `\`${field.to}\` has no such record` });
    }
  }

  async *#chunks(shape: CollectionShape, name: string | null): AsyncGenerator<Row[]> {
    const column = name ? `\`${name}\`` : 'NULL';
    for (let after = ''; ; ) {
      const rows = await shape.db.rows<Row>(`SELECT id, ${column} AS value FROM ${shape.table} WHERE id > ? ORDER BY id LIMIT ${CHUNK}`, [
        after,
      ]);
      const last = rows.at(-1);
      if (!last) return;
      yield rows;
      after = last.id;
    }
  }

  async #make(
    connection: PoolConnection,
    environment: Environment,
    collection: string,
    change: SchemaChange,
    misfit: (example: ChangePreview['examples'][number]) => void,
  ): Promise<void> {
    const shape = await this.parts.catalogue.get(environment, collection);
    const fields = new Map(shape.fields);
    switch (change.change) {
      case 'add':
        await connection.query(`ALTER TABLE ${shape.table} ADD COLUMN IF NOT EXISTS ${columnSql(change.name, change.field as Field)}`);
        fields.set(change.name, change.field as Field);
        await this.parts.catalogue.addKeys(connection, environment, collection, change.name, change.field as Field);
        break;
      case 'drop':
        await this.#putAway(connection, environment, shape, change.name);
        fields.delete(change.name);
        break;
      case 'rename':
        await this.#rename(connection, shape, change.name, change.to);
        return this.parts.catalogue.settle(connection, environment, shape, renamed(shape.fields, change.name, change.to));
      case 'recover':
        await this.#recover(connection, shape, droppedOf(shape, change.column), change.as, fields);
        break;
      case 'set':
        return this.#set(connection, environment, shape, change.name, change.field as Field, misfit);
    }
    await this.parts.catalogue.settle(connection, environment, shape, fields);
  }

  /** Sets a field's column aside, under a name that no field can have; keys and indexes on it end. */
  async #putAway(connection: PoolConnection, environment: Environment, shape: CollectionShape, name: string): Promise<string> {
    const field = shape.fields.get(name) as Field;
    await dropKeys(connection, environment, shape, name);
    const column = `_x${this.parts.now().toString(36)}_${name}`.slice(0, 64);
    const comment: Omit<DroppedField, 'column'> = {
      name,
      field: { type: field.type, ...(field.to ? { to: field.to } : {}) },
      at: new Date(this.parts.now()).toISOString(),
    };
    await connection.query(`ALTER TABLE ${shape.table} CHANGE COLUMN \`${name}\` \`${column}\` ${columnType(field)} NULL COMMENT ?`, [
      JSON.stringify(comment),
    ]);
    return column;
  }

  async #recover(
    connection: PoolConnection,
    shape: CollectionShape,
    dropped: DroppedField,
    as: string | undefined,
    fields: Map<string, Field>,
  ): Promise<void> {
    // A reference comes back as text: what it led to may be gone.
    const field: Field = dropped.field.type === 'reference' || dropped.field.type === 'choice' ? { type: 'text' } : dropped.field;
    const name = as ?? dropped.name;
    await connection.query(`ALTER TABLE ${shape.table} CHANGE COLUMN \`${dropped.column}\` ${columnSql(name, field)}`);
    fields.set(name, field);
  }

  async #rename(connection: PoolConnection, shape: CollectionShape, from: string, to: string): Promise<void> {
    const field = shape.fields.get(from) as Field;
    const indexed = shape.placesIndexed.has(from);
    await connection.query(
      `ALTER TABLE ${shape.table} ${
        indexed
          ? `${shape.indexes
              .filter(({ kind, fields }) => kind === 'place' && fields[0] === from)
              .map(({ name }) => `DROP INDEX \`${name}\`, `)
              .join('')}DROP COLUMN \`${spatialColumn(from)}\`, `
          : ''
      }CHANGE COLUMN \`${from}\` ${columnSql(to, field)}`,
    );
  }

  /** Constraints alone are metadata; another type fills a new column, and sets the old one aside. */
  async #set(
    connection: PoolConnection,
    environment: Environment,
    shape: CollectionShape,
    name: string,
    field: Field,
    misfit: (example: ChangePreview['examples'][number]) => void,
  ): Promise<void> {
    const { catalogue } = this.parts;
    const present = shape.fields.get(name) as Field;
    const fields = new Map([...shape.fields, [name, field]]);
    const finish = async () => {
      if (field.type === 'reference') await this.#clearDangling(connection, shape, name, field);
      await catalogue.addKeys(connection, environment, shape.name, name, field);
      await catalogue.settle(connection, environment, shape, fields);
    };
    if (columnType(present) === columnType(field)) {
      const keys = columnComment(present) !== columnComment(field) || Boolean(present.unique) !== Boolean(field.unique);
      if (keys) await dropKeys(connection, environment, shape, name, field);
      const broken = (value: Json) => valueProblem(shape.name, name, field, value, present.type === field.type, false) !== null;
      await this.#clearMisfits(connection, shape, name, present, broken);
      await connection.query(`ALTER TABLE ${shape.table} MODIFY COLUMN ${columnSql(name, field)}`);
      return finish();
    }
    const online = new OnlineChange(connection, shape, { name, present, field }, (id, value) =>
      misfit({ id, value, problem: `cannot become ${field.type}` }),
    );
    try {
      await online.fill();
      await online.hold();
      await this.#putAway(connection, environment, shape, name);
      await connection.query(`ALTER TABLE ${shape.table} CHANGE COLUMN \`${online.column}\` ${columnSql(name, field)}`);
      await finish();
    } finally {
      await online.release();
    }
  }

  async #clearMisfits(
    connection: PoolConnection,
    shape: CollectionShape,
    name: string,
    present: Field,
    broken: (value: Json) => boolean,
  ): Promise<void> {
    for await (const rows of this.#chunks(shape, name)) {
      const ids = rows.filter(({ value }) => value !== null && broken(presentValue(present.type, value))).map(({ id }) => id);
      if (ids.length > 0)
        await connection.query(
          `UPDATE ${shape.table} SET \`${name}\` = NULL, version = version + 1, updatedAt = ?, \`_by\` = 'schema' WHERE id IN (?)`,
          [new Date(this.parts.now()), ids],
        );
    }
  }

  async #clearDangling(connection: PoolConnection, shape: CollectionShape, name: string, field: Field): Promise<void> {
    await connection.query(
      `UPDATE ${shape.table} SET \`${name}\` = NULL, version = version + 1, updatedAt = ?, \`_by\` = 'schema' WHERE \`${name}\` IS NOT NULL AND NOT EXISTS (SELECT 1 FROM (SELECT id FROM ${shape.db.collection(field.to === 'users' ? '_users' : (field.to as string))}) r WHERE r.id = \`${name}\`)`,
      [new Date(this.parts.now())],
    );
  }
}

/** Ends the foreign key, the unique key and the indexes of a field; `keep` says what the field becomes. */
async function dropKeys(
  connection: PoolConnection,
  environment: Environment,
  shape: CollectionShape,
  name: string,
  keep?: Field,
): Promise<void> {
  const parts: string[] = [];
  const field = shape.fields.get(name) as Field;
  if (field.type === 'reference') {
    const [keys] = await connection.query<RowDataPacket[]>(
      'SELECT CONSTRAINT_NAME AS name FROM information_schema.KEY_COLUMN_USAGE WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND COLUMN_NAME = ? AND REFERENCED_TABLE_NAME IS NOT NULL',
      [environment.db.name, shape.name, name],
    );
    for (const key of keys) parts.push(`DROP FOREIGN KEY \`${key.name}\``);
  }
  const kept = (index: CollectionShape['indexes'][number]) => keep && !(index.kind === 'unique' && index.name.startsWith('_u_'));
  for (const index of shape.indexes) {
    if (!index.fields.includes(name) || kept(index)) continue;
    parts.push(`DROP INDEX IF EXISTS \`${index.name}\``);
    if (index.kind === 'place') parts.push(`DROP COLUMN IF EXISTS \`${spatialColumn(name)}\``);
  }
  if (parts.length > 0) await connection.query(`ALTER TABLE ${shape.table} ${parts.join(', ')}`);
}

/** Why one record's value does not fit the field as it shall be, or null. */
function valueProblem(collection: string, name: string, field: Field, value: Json, sameType: boolean, isNew: boolean): string | null {
  if (value === null) return field.required && !(isNew && field.default !== undefined) ? 'has no value, and the field is required' : null;
  if (sameType) return misfitOf(collection, name, field, value)?.problem ?? null;
  const converted = convertValue(value, field);
  return converted === undefined ? `cannot become ${field.type}` : null;
}

/** A required or unique field cannot be had by clearing what does not fit. */
const needsAll = (change: SchemaChange): boolean =>
  (change.change === 'set' || change.change === 'add') && Boolean(change.field.required || change.field.unique);

function misfitProblem(collection: string, { change, misfits, fits, examples }: ChangePreview, all: boolean): Problem {
  const name = 'name' in change ? change.name : '';
  return new Problem(
    'records-do-not-fit',
    `${misfits} of ${misfits + fits} records of \`${collection}\` do not fit: ${examples[0]?.id} ${examples[0]?.problem}. ${all ? 'Correct them first.' : 'Correct them first, or apply the change with misfits=clear, which empties the field in those records.'}`,
    {
      fields: examples.map(({ id, value, problem }) => ({
        path: `${collection}/${id}.${name}`,
        problem: `${JSON.stringify(value)}: ${problem}`,
        expected: 'a value that fits the change',
      })),
    },
  );
}

const renamed = (fields: Fields, from: string, to: string): Fields =>
  new Map([...fields].map(([name, field]) => [name === from ? to : name, field]));
const isSame = (a: Field, b: Field): boolean => JSON.stringify(sorted(a)) === JSON.stringify(sorted(b));
const sorted = (field: Field) =>
  Object.entries({ ...field, ...(field.type === 'reference' ? { onDelete: field.onDelete ?? 'restrict' } : {}) })
    .filter(([, value]) => value !== undefined && value !== false)
    .sort(([a], [b]) => a.localeCompare(b));

function droppedOf(shape: CollectionShape, column: string): DroppedField {
  const dropped = shape.dropped.find((one) => one.column === column);
  if (!dropped)
    throw new Problem(
      'not-found',
      `\`${shape.name}\` has no dropped field in the column \`${column}\`. See \`dropped\` of the collection.`,
    );
  return dropped;
}
