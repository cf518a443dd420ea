/** Indexes of collections, and advice on which to make. */
import { type Advice, Problem } from '@orchard/contract';
import { type IndexProposal, kindOfField, type ListForm, nearest, proposeIndex, servingIndex, SYSTEM_KINDS } from '@orchard/core';
import { isDuplicate, messageOf } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { spatialColumn, spatialColumnSql } from './columns.js';
import type { CollectionShape, Index } from './shape.js';
import { collectionTable, queryTable } from './tables.js';

type QueryRow = { form: string; shape: ListForm | string; example: string; calls: number; totalUs: number; worstUs: number; lastAt: Date };
type Before = { calls: number; meanMs: number };

/** How many letters of a text an index holds. */
const TEXT_PREFIX = 191;
/** Lists that take less than this are not worth an index. */
const WORTH_US = 1_000;
/** Fewer records than this are read whole as fast as by an index. */
const WORTH_RECORDS = 200;

const invalid = (problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path: 'body.fields', problem, expected }] });

export class Indexes {
  constructor(private readonly parts: Parts) {}

  /** @throws {Problem} invalid-input, already-exists */
  async add(environment: Environment, collection: string, fields: string[], unique = false): Promise<Index> {
    const shape = await this.parts.catalogue.get(environment, collection);
    const plain = checkIndex(shape, fields);
    if (unique && plain === 'place')
      throw invalid('Places have no unique index.', 'texts, numbers, booleans, dates, times, choices and references');
    const kind = unique ? 'unique' : plain;
    const there = shape.indexes.find((index) => index.fields.join() === fields.join());
    if (there) throw new Problem('already-exists', `\`${collection}\` has an index over ${fields.join(', ')} already: \`${there.name}\`.`);
    await this.parts.queryLog.flush();
    const name = indexName(fields, unique);
    await this.parts.catalogue.change(environment, collection, async (connection) => {
      try {
        if (kind === 'place')
          await connection.query(
            `ALTER TABLE ${shape.table} ADD COLUMN IF NOT EXISTS ${spatialColumnSql(fields[0] as string)}, ADD SPATIAL INDEX \`${name}\` (\`${spatialColumn(fields[0] as string)}\`)`,
          );
        else
          await connection.query(
            `CREATE ${unique ? 'UNIQUE ' : ''}INDEX \`${name}\` ON ${shape.table} (${fields.map((field) => (unique ? `\`${field}\`` : indexedColumn(shape, field))).join(', ')})`,
          );
      } catch (error) {
        if (isDuplicate(error))
          throw new Problem(
            'records-do-not-fit',
            `Some records of \`${collection}\` have the same ${fields.join(' and ')}: ${messageOf(error)}. Change those first.`,
          );
        throw error;
      }
      await this.#rememberBefore(environment, shape, { fields, kind: plain });
      await connection.query(`UPDATE ${environment.db.of(collectionTable)} SET revision = revision + 1 WHERE name = ?`, [collection]);
    });
    return { name, fields, kind };
  }

  /** Keeps what the lists cost that the index is for, and counts them anew. */
  async #rememberBefore(environment: Environment, shape: CollectionShape, made: IndexProposal): Promise<void> {
    const table = `${environment.db.of(queryTable)}`;
    for (const row of await this.#rows(environment, shape.name)) {
      const form = listForm(row);
      const proposal = proposeIndex(form, (field) => isIndexable(shape, field));
      if (!proposal || !servingIndex(proposal, [{ name: 'made', ...made }])) continue;
      const before: Before = { calls: Number(row.calls), meanMs: Number(row.totalUs) / Number(row.calls) / 1000 };
      await environment.db.run(`UPDATE ${table} SET calls = 0, totalUs = 0, worstUs = 0, shape = ? WHERE collection = ? AND form = ?`, [
        JSON.stringify({ ...form, before }),
        shape.name,
        row.form,
      ]);
    }
  }

  /** @throws {Problem} not-found */
  async remove(environment: Environment, collection: string, name: string): Promise<void> {
    const shape = await this.parts.catalogue.get(environment, collection);
    const index = shape.indexes.find((one) => one.name === name);
    if (!index) throw new Problem('not-found', `\`${collection}\` has no index \`${name}\`.`);
    if (index.name.startsWith('_'))
      throw new Problem(
        'invalid-input',
        `\`${name}\` belongs to a constraint: ${index.kind === 'unique' ? `change \`${index.fields[0]}\` so that it is not unique` : 'it serves a reference or the owner'}.`,
      );
    await this.parts.catalogue.change(environment, collection, async (connection) => {
      await connection.query(
        `ALTER TABLE ${shape.table} DROP INDEX \`${name}\`${index.kind === 'place' ? `, DROP COLUMN \`${spatialColumn(index.fields[0] as string)}\`` : ''}`,
      );
      await connection.query(`UPDATE ${environment.db.of(collectionTable)} SET revision = revision + 1 WHERE name = ?`, [collection]);
    });
  }

  /** What lists have cost in all, the most costly first. */
  async advice(environment: Environment, collection: string): Promise<Advice[]> {
    const shape = await this.parts.catalogue.get(environment, collection);
    await this.parts.queryLog.flush();
    const records = (await this.parts.catalogue.sizes(environment, [collection])).get(collection)?.records ?? 0;
    return (await this.#rows(environment, collection)).map((row) => adviceOf(shape, row, records >= WORTH_RECORDS));
  }

  async #rows(environment: Environment, collection: string): Promise<QueryRow[]> {
    return environment.db.rows<QueryRow>(
      `SELECT form, shape, example, calls, totalUs, worstUs, lastAt FROM ${environment.db.of(queryTable)} WHERE collection = ? ORDER BY totalUs DESC LIMIT 50`,
      [collection],
    );
  }
}

const listForm = ({ shape }: QueryRow): ListForm & { before?: Before } => (typeof shape === 'string' ? JSON.parse(shape) : shape);

function adviceOf(shape: CollectionShape, row: QueryRow, isLarge: boolean): Advice {
  const form = listForm(row);
  const [calls, meanUs] = [Number(row.calls), Number(row.calls) > 0 ? Number(row.totalUs) / Number(row.calls) : 0];
  const proposal = proposeIndex(form, (field) => isIndexable(shape, field));
  const servedBy = proposal && servingIndex(proposal, shape.indexes);
  const round = (ms: number) => Math.round(ms * 100) / 100;
  return {
    form: describeForm(form),
    example: row.example,
    calls,
    meanMs: round(meanUs / 1000),
    worstMs: round(row.worstUs / 1000),
    lastAt: row.lastAt.toISOString(),
    propose: proposal && !servedBy && isLarge && meanUs >= WORTH_US ? proposal : null,
    servedBy,
    before: form.before ? { calls: form.before.calls, meanMs: round(form.before.meanMs) } : null,
  };
}

function describeForm({ equal, range, places, sort }: ListForm): string {
  const parts = [
    ...equal.map((field) => `${field} = …`),
    ...range.map((field) => `${field} < …`),
    ...places.map((field) => `near ${field}`),
  ];
  return `${parts.join(' and ') || 'everything'}${sort.length > 0 ? `, sorted by ${sort.join(', ')}` : ''}`;
}

const isIndexable = (shape: CollectionShape, field: string): boolean => {
  const kind = shape.fields.has(field) ? kindOfField(shape.fields.get(field) as never) : SYSTEM_KINDS.get(field);
  return kind !== undefined && !['place', 'list', 'object'].includes(kind);
};

function checkIndex(shape: CollectionShape, fields: string[]): 'order' | 'place' {
  for (const name of fields) {
    if (!shape.fields.has(name) && !SYSTEM_KINDS.has(name))
      throw invalid(
        `\`${shape.name}\` has no field \`${name}\`${nearest(name, shape.fields.keys()) || '.'}`,
        `one of: ${[...shape.fields.keys()].join(', ')}`,
      );
  }
  if (new Set(fields).size < fields.length) throw invalid('A field stands in an index once.', 'each field once');
  const [first] = fields as [string];
  if (shape.fields.get(first)?.type === 'place') {
    if (fields.length > 1) throw invalid('An index over a place holds only that place.', `only \`${first}\``);
    if (first.length > 60) throw invalid('The name of an indexed place has at most 60 letters.', 'a shorter name: rename the field first');
    return 'place';
  }
  for (const name of fields)
    if (!isIndexable(shape, name))
      throw invalid(
        `\`${name}\` is ${shape.fields.get(name)?.type === 'list' ? 'a list' : `of type ${shape.fields.get(name)?.type}`}, which has no order.`,
        'texts, numbers, booleans, dates, times, choices and references; or one place',
      );
  return 'order';
}

const indexedColumn = (shape: CollectionShape, field: string) =>
  `\`${field}\`${shape.fields.get(field)?.type === 'text' ? `(${TEXT_PREFIX})` : ''}`;
/** A name from the fields, at most 64 letters. */
const indexName = (fields: string[], unique: boolean) => `${unique ? 'one_' : 'by_'}${fields.join('_')}`.slice(0, 64);
