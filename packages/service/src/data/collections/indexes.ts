/** Indexes of collections, and advice on which to make. */
import { type Advice, Problem } from '@orchard/contract';
import { type IndexProposal, kindOfField, type ListForm, nearest, proposeIndex, servingIndex, SYSTEM_KINDS } from '@orchard/core';
import { isDuplicate, messageOf } from '../../platform/database/errors.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { raiseRevision, readSizes } from './catalogueStore.js';
import { addIndex, dropIndex } from './collectionDdl.js';
import { countAnew, readCosts, type StoredCost } from './queryStore.js';
import type { CollectionShape, Index } from './shape.js';

/** Lists that cost less than this need no index. */
const WORTH_US = 1_000;
/** Below this many records, a full scan is as fast as an index. */
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
        await addIndex(connection, shape, { name, fields, kind });
      } catch (error) {
        if (isDuplicate(error))
          throw new Problem(
            'records-do-not-fit',
            `Some records of \`${collection}\` have the same ${fields.join(' and ')}: ${messageOf(error)}. Change those first.`,
          );
        throw error;
      }
      await this.#rememberBefore(environment, shape, { fields, kind: plain });
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
  if (new Set(fields).size < fields.length) throw invalid('A field can be in an index only once.', 'each field once');
  const [first] = fields as [string];
  if (shape.fields.get(first)?.type === 'place') {
    if (fields.length > 1) throw invalid('An index over a place contains only that place.', `only \`${first}\``);
    if (first.length > 60)
      throw invalid('The name of an indexed place must have at most 60 characters.', 'a shorter name: rename the field first');
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

/** A name from the fields, at most 64 characters. */
const indexName = (fields: string[], unique: boolean) => `${unique ? 'one_' : 'by_'}${fields.join('_')}`.slice(0, 64);
