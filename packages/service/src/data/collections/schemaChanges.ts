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
  targetOfField,
} from '@orchard/core';
import type { PoolConnection } from 'mysql2/promise';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { addColumn, addKeys, dropColumns, dropKeys, fieldOf, modifyColumns, putInPlace, renameColumn, setAside } from './collectionDdl.js';
import { columnComment, columnType, presentValue } from './columns.js';
import { clearDangling, clearMisfits, countRecords, danglingIn, twinsOf, valuesOf } from './fitStore.js';
import { FIELD_RULES, readRule } from './querySql.js';
import type { CollectionShape, DroppedField } from './shape.js';
import { OnlineChange } from './onlineChangeDdl.js';
import { viewsNaming } from './viewStore.js';

/** How long the values of a dropped field can be restored. */
export const RECOVERY_MS = 7 * 24 * 3_600_000;
const EXAMPLES = 5;
export type Misfits = 'refuse' | 'clear';

export class SchemaChanges {
  constructor(private readonly parts: Parts) {}

  /** How many records fit a change, which do not, and its side effects. */
  async preview(environment: Environment, collection: string, change: SchemaChange): Promise<ChangePreview> {
    const shape = await this.parts.catalogue.get(environment, collection);
    const notes = await this.#notes(environment, shape, change);
    const blocked = await this.#blocked(environment, shape, change);
    const preview: ChangePreview = { change, fits: 0, misfits: 0, examples: [], notes, blocked };
    if (!blocked && (change.change === 'set' || change.change === 'add')) await this.#count(shape, change, preview);
    else preview.fits = await countRecords(shape);
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

  /** Deletes dropped fields that can no longer be restored. */
  async purge(environment: Environment): Promise<void> {
    const limit = this.parts.now() - RECOVERY_MS;
    for (const shape of await this.parts.catalogue.all(environment)) {
      const over = shape.dropped.filter(({ at }) => Date.parse(at) < limit);
      if (over.length > 0)
        await this.parts.catalogue.change(environment, shape.name, (connection) =>
          dropColumns(
            connection,
            shape.table,
            over.map(({ column }) => column),
          ),
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
    if (problem) return `${problem.problem} Must be ${problem.expected}.`;
    for (const which of FIELD_RULES) {
      const text = field[which];
      if (text === undefined) continue;
      const shapes = await this.parts.catalogue.shapes(environment, shape.name);
      const rule = readRule(shapes, { ...shape, fields: new Map([...shape.fields, [name, field]]) }, text);
      if ('broken' in rule) return `The rule for ${which === 'setBy' ? 'setting' : 'seeing'} \`${name}\`: ${rule.broken}.`;
    }
    if ((field.seenBy !== undefined || field.hidden) && shape.indexed.searched.includes(name))
      return `\`${name}\` is in the search index of \`${shape.name}\`, in which everybody finds its words. Drop that index first.`;
    if (field.type === 'file') await this.parts.catalogue.files(environment);
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
    const breaks = (text: string) => !('broken' in readRule(shapes, shape, text)) && 'broken' in readRule(shapes, without, text);
    const ofFields = [...without.fields]
      .filter(([, field]) => FIELD_RULES.some((which) => field[which] !== undefined && breaks(field[which])))
      .map(([field]) => `\`${field}\``);
    return [...RECORD_ACTIONS.filter((action) => breaks(shape.rules[action])), ...ofFields];
  }

  async #notes(environment: Environment, shape: CollectionShape, change: SchemaChange): Promise<string[]> {
    const notes: string[] = [];
    if (change.change === 'recover' || change.change === 'add') return notes;
    const indexes = shape.indexes.filter(({ fields, name }) => fields.some((one) => fieldOf(one) === change.name) && !name.startsWith('_'));
    if (indexes.length > 0 && (change.change === 'drop' || change.change === 'set'))
      notes.push(
        `The index ${indexes.map(({ name }) => `\`${name}\``).join(', ')} ${change.change === 'drop' ? 'is dropped with it' : 'is rebuilt'}.`,
      );
    if (change.change === 'drop') notes.push('Its values can be restored for 7 days.');
    const present = shape.fields.get(change.name);
    if (change.change === 'set' && present && present.type !== change.field.type)
      notes.push(`Values become ${change.field.type}; values of type ${present.type} can be restored for 7 days.`);
    const views = await viewsNaming(environment, shape.name, change.name);
    if (views.length > 0 && change.change !== 'set') notes.push(`Saved views that may use it: ${views.join(', ')}.`);
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
    for await (const rows of valuesOf(shape, present ? change.name : null)) {
      for (const { id, value } of rows) {
        const old = present ? presentValue(present.type, value) : null;
        const problem = valueProblem(shape.name, change.name, field, old, present?.type === field.type, present === null);
        if (problem) note(id, old, problem);
        else preview.fits++;
      }
    }
    if (field.unique && !present?.unique && present) await this.#countTwins(shape, change.name, preview);
    const dangling = targetOfField(field) !== null && present && targetOfField(present) !== targetOfField(field);
    if (dangling) await this.#countDangling(shape, change.name, field, preview);
  }

  async #countTwins(shape: CollectionShape, name: string, preview: ChangePreview): Promise<void> {
    for (const { id, n, value } of await twinsOf(shape, name)) {
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
    for (const { id, value } of await danglingIn(shape, name, field)) {
      preview.misfits++;
      preview.fits--;
      if (preview.examples.length < EXAMPLES)
        preview.examples.push({ id, value: value as Json, problem: `\`${field.to}\` has no such record` });
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
        await addColumn(connection, shape, change.name, change.field as Field);
        fields.set(change.name, change.field as Field);
        await addKeys(connection, shape.db, collection, change.name, change.field as Field);
        break;
      case 'drop':
        await this.#setAside(connection, shape, change.name);
        fields.delete(change.name);
        break;
      case 'rename':
        await renameColumn(connection, shape, change.name, change.to);
        return this.parts.catalogue.settle(connection, environment, shape, renamed(shape.fields, change.name, change.to));
      case 'recover':
        await this.#recover(connection, shape, droppedOf(shape, change.column), change.as, fields);
        break;
      case 'set':
        return this.#set(connection, environment, shape, change.name, change.field as Field, misfit);
    }
    await this.parts.catalogue.settle(connection, environment, shape, fields);
  }

  /** Keys and indexes of the field are dropped with it. */
  async #setAside(connection: PoolConnection, shape: CollectionShape, name: string): Promise<void> {
    const { type, to } = shape.fields.get(name) as Field;
    const now = this.parts.now();
    await dropKeys(connection, shape, name);
    await setAside(connection, shape, {
      column: `_x${now.toString(36)}_${name}`.slice(0, 64),
      name,
      field: { type, ...(to ? { to } : {}) },
      at: new Date(now).toISOString(),
    });
  }

  async #recover(
    connection: PoolConnection,
    shape: CollectionShape,
    dropped: DroppedField,
    as: string | undefined,
    fields: Map<string, Field>,
  ): Promise<void> {
    // A reference is restored as text: its target may be gone.
    const field: Field = targetOfField(dropped.field) || dropped.field.type === 'choice' ? { type: 'text' } : dropped.field;
    const name = as ?? dropped.name;
    await putInPlace(connection, shape, dropped.column, name, field);
    fields.set(name, field);
  }

  /** A change of constraints only changes metadata; another type fills a new column, and sets the old one aside. */
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
      if (targetOfField(field)) await clearDangling(connection, shape, name, field, new Date(this.parts.now()));
      await addKeys(connection, shape.db, shape.name, name, field);
      await catalogue.settle(connection, environment, shape, fields);
    };
    if (columnType(present) === columnType(field)) {
      const keys = columnComment(present) !== columnComment(field) || Boolean(present.unique) !== Boolean(field.unique);
      if (keys) await dropKeys(connection, shape, name, field);
      const broken = (value: Json) => valueProblem(shape.name, name, field, value, present.type === field.type, false) !== null;
      await clearMisfits(connection, shape, name, broken, new Date(this.parts.now()));
      await modifyColumns(connection, shape.table, [[name, field]]);
      return finish();
    }
    const online = new OnlineChange(connection, shape, { name, present, field }, (id, value) =>
      misfit({ id, value, problem: `cannot become ${field.type}` }),
    );
    try {
      await online.fill();
      await online.hold();
      await this.#setAside(connection, shape, name);
      await putInPlace(connection, shape, online.column, name, field);
      await finish();
    } finally {
      await online.release();
    }
  }
}

/** Why a record's value does not fit the changed field; null if it fits. */
function valueProblem(collection: string, name: string, field: Field, value: Json, sameType: boolean, isNew: boolean): string | null {
  if (value === null) return field.required && !(isNew && field.default !== undefined) ? 'has no value, and the field is required' : null;
  if (sameType) return misfitOf(collection, name, field, value)?.problem ?? null;
  const converted = convertValue(value, field);
  return converted === undefined ? `cannot become ${field.type}` : null;
}

/** Clearing misfits cannot make a field required or unique. */
const needsAll = (change: SchemaChange): boolean =>
  (change.change === 'set' || change.change === 'add') && Boolean(change.field.required || change.field.unique);

function misfitProblem(collection: string, { change, misfits, fits, examples }: ChangePreview, all: boolean): Problem {
  const name = 'name' in change ? change.name : '';
  return new Problem(
    'records-do-not-fit',
    `${misfits} of ${misfits + fits} records of \`${collection}\` do not fit: ${examples[0]?.id} ${examples[0]?.problem}. ${all ? 'Correct them first.' : 'Correct them first, or apply the change with misfits=clear, which clears the field in those records.'}`,
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
  Object.entries({ ...field, ...(targetOfField(field) ? { onDelete: field.onDelete ?? 'restrict' } : {}) })
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
