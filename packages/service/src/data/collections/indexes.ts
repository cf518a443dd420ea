/** Indexes of collections, and advice on which to make. */
import { type Advice, Problem } from '@orchard/contract';
import {
  type IndexProposal,
  kindOfField,
  type ListForm,
  nearest,
  proposeIndex,
  readObjectPath,
  SEARCHED_LENGTH,
  servingIndex,
  SYSTEM_KINDS,
} from '@orchard/core';
import type { PoolConnection } from 'mysql2/promise';
import { isDuplicate, messageOf } from '../../platform/database/errors.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { raiseRevision, readSizes } from './catalogueStore.js';
import { addIndex, dropIndex, fieldOf, indexedLengths } from './collectionDdl.js';
import { countAnew, readCosts, type StoredCost } from './queryStore.js';
import type { CollectionShape, Index } from './shape.js';

/** Lists that cost less than this need no index. */
const WORTH_US = 1_000;
/** Below this many records, a full scan is as fast as an index. */
const WORTH_RECORDS = 200;

/** `search`: over the texts that `search('…')` looks into. */
type NewIndex = { fields: string[]; unique?: boolean | undefined; search?: boolean | undefined };

const invalid = (problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path: 'body.fields', problem, expected }] });

export class Indexes {
  constructor(private readonly parts: Parts) {}

  /** @throws {Problem} invalid-input, already-exists */
  async add(environment: Environment, collection: string, { fields, unique = false, search = false }: NewIndex): Promise<Index> {
    const shape = await this.parts.catalogue.get(environment, collection);
    const kind = search ? checkSearch(shape, fields, unique) : checkIndex(shape, fields, unique);
    const there = shape.indexes.find((index) => index.fields.join() === fields.join() && (index.kind === 'search') === search);
    if (there) throw new Problem('already-exists', `\`${collection}\` has an index over ${fields.join(', ')} already: \`${there.name}\`.`);
    await this.parts.queryLog.flush();
    const name = indexName(fields, kind);
    await this.parts.catalogue.change(environment, collection, async (connection) => {
      if (kind === 'search') await demandLengths(connection);
      try {
        await addIndex(connection, shape, { name, fields, kind });
      } catch (error) {
        if (isDuplicate(error))
          throw new Problem(
            'records-do-not-fit',
            `Some records of \`${collection}\` have the same ${fields.join(' and ')}: ${messageOf(error)}. Change those first.`,
          );
        throw error;
      }
      if (kind !== 'search' && kind !== 'items')
        await this.#rememberBefore(environment, shape, { fields, kind: kind === 'place' ? kind : 'order' });
      await raiseRevision(connection, environment.db, collection);
    });
    return { name, fields, kind };
  }

  /** Stores the present cost of the lists that the index is for, and restarts their counts. */
  async #rememberBefore(environment: Environment, shape: CollectionShape, made: IndexProposal): Promise<void> {
    for (const cost of await readCosts(environment.db, shape.name)) {
      const proposal = proposeIndex(cost.shape, (field) => isIndexable(shape, field));
      if (!proposal || !servingIndex(proposal, [{ name: 'made', ...made }])) continue;
      const before = { calls: cost.calls, meanMs: cost.totalUs / cost.calls / 1000 };
      await countAnew(environment.db, cost, { ...cost.shape, before });
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
      await dropIndex(connection, shape, index);
      await raiseRevision(connection, environment.db, collection);
    });
  }

  /** Cost of lists in all, the most costly first. */
  async advice(environment: Environment, collection: string): Promise<Advice[]> {
    const shape = await this.parts.catalogue.get(environment, collection);
    await this.parts.queryLog.flush();
    const records = (await readSizes(environment.db, [collection])).get(collection)?.records ?? 0;
    return (await readCosts(environment.db, collection)).map((cost) => adviceOf(shape, cost, records >= WORTH_RECORDS));
  }
}

function adviceOf(shape: CollectionShape, { shape: form, calls, totalUs, worstUs, example, lastAt }: StoredCost, isLarge: boolean): Advice {
  const meanUs = calls > 0 ? totalUs / calls : 0;
  const proposal = proposeIndex(form, (field) => isIndexable(shape, field));
  const servedBy = proposal && servingIndex(proposal, shape.indexes);
  const round = (ms: number) => Math.round(ms * 100) / 100;
  return {
    form: describeForm(form),
    example,
    calls,
    meanMs: round(meanUs / 1000),
    worstMs: round(worstUs / 1000),
    lastAt: lastAt.toISOString(),
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
  const path = readObjectPath(field);
  if (path) return shape.fields.get(path.field)?.type === 'object';
  const kind = shape.fields.has(field) ? kindOfField(shape.fields.get(field) as never) : SYSTEM_KINDS.get(field);
  return kind !== undefined && !['place', 'list', 'object'].includes(kind);
};

/** @throws {Problem} invalid-input */
function checkIndex(shape: CollectionShape, fields: string[], unique: boolean): Exclude<Index['kind'], 'search'> {
  demandFields(shape, fields);
  const [first] = fields as [string];
  const type = shape.fields.get(first)?.type;
  if (type === 'place' || type === 'list') {
    const what = type === 'place' ? 'place' : 'list';
    if (fields.length > 1) throw invalid(`An index over a ${what} contains only that ${what}.`, `only \`${first}\``);
    if (unique) throw invalid(`A ${what} has no unique index.`, 'texts, numbers, booleans, dates, times, choices and references');
    if (type === 'list') return 'items';
    if (first.length > 60)
      throw invalid('The name of an indexed place must have at most 60 characters.', 'a shorter name: rename the field first');
    return 'place';
  }
  for (const name of fields) {
    if (unique && readObjectPath(name)) throw invalid(`\`${name}\` lies inside an object, which has no unique index.`, 'fields');
    if (isIndexable(shape, name)) continue;
    const { type: of } = shape.fields.get(fieldOf(name)) ?? {};
    throw invalid(
      `\`${name}\` is ${of === 'list' ? 'a list' : of === 'object' ? 'an object' : `of type ${of}`}, which has no order.`,
      of === 'object' && !readObjectPath(name)
        ? `what lies inside it: \`${name}.…\` for texts, \`${name}.…:number\` or \`${name}.…:boolean\``
        : 'texts, numbers, booleans, dates, times, choices, references and what lies inside objects; or one place, or one list',
    );
  }
  return unique ? 'unique' : 'order';
}

/** A collection has one search index, over texts that everybody who reads a record sees. @throws {Problem} invalid-input, already-exists */
function checkSearch(shape: CollectionShape, fields: string[], unique: boolean): 'search' {
  demandFields(shape, fields);
  if (unique) throw invalid('A search index is not unique.', '`search` or `unique`, not both');
  const present = shape.indexes.find(({ kind }) => kind === 'search');
  if (present)
    throw new Problem(
      'already-exists',
      `\`${shape.name}\` has the search index \`${present.name}\` over ${present.fields.join(', ')} already. Drop it first.`,
    );
  for (const name of fields) {
    const field = shape.fields.get(name);
    if (field?.type !== 'text' && field?.type !== 'choice')
      throw invalid(`\`${name}\` does not hold texts.`, 'fields that hold texts or choices');
    if (field.hidden || field.seenBy !== undefined)
      throw invalid(`\`${name}\` is hidden from some, who would find its words.`, 'fields that every reader of a record sees');
  }
  return 'search';
}

/** @throws {Problem} invalid-input */
function demandFields(shape: CollectionShape, fields: string[]): void {
  for (const name of fields) {
    const field = fieldOf(name);
    if (!shape.fields.has(field) && !SYSTEM_KINDS.has(field))
      throw invalid(
        `\`${shape.name}\` has no field \`${field}\`${nearest(field, shape.fields.keys()) || '.'}`,
        `one of: ${[...shape.fields.keys()].join(', ')}`,
      );
  }
  if (new Set(fields).size < fields.length) throw invalid('A field can be in an index only once.', 'each field once');
}

/** A server of the team's own may leave out words that `search` takes. @throws {Problem} invalid-input */
async function demandLengths(connection: PoolConnection): Promise<void> {
  const { least, most } = await indexedLengths(connection);
  if (least <= SEARCHED_LENGTH.least && most >= SEARCHED_LENGTH.most) return;
  throw invalid(
    `The database server indexes words of ${least} to ${most} characters; a search takes words of ${SEARCHED_LENGTH.least} to ${SEARCHED_LENGTH.most}.`,
    `a server with innodb_ft_min_token_size=${SEARCHED_LENGTH.least} and innodb_ft_max_token_size=${SEARCHED_LENGTH.most}, MariaDB's defaults`,
  );
}

/** A name from the fields, at most 64 characters. */
const PREFIXES: Record<Index['kind'], string> = { order: 'by', place: 'by', items: 'by', unique: 'one', search: 'search' };
const indexName = (fields: string[], kind: Index['kind']) =>
  `${PREFIXES[kind]}_${fields.map((name) => name.replace(/\W+/g, '_')).join('_')}`.slice(0, 64);
