/**
 * Pulling: what changed in the scopes of a device. A scope is filled page by page from a number of the change feed on, and then
 * followed: records that changed since are read as they are now, by the rules of now, so that what the person may no longer read
 * leaves the device as what was deleted does.
 */
import { createHash } from 'node:crypto';
import { type BodyOf, type operations, Problem, type SyncPulled, type SyncScopeChanges } from '@orchard/contract';
import { digestOf, type Field, type Held, targetOfField } from '@orchard/core';
import { type Call, type Environment, environmentOf } from '../../platform/call.js';
import type { ChangedRecord } from '../../platform/live/feed.js';
import type { CollectionShape } from '../collections/shape.js';
import { type Author, authorOf } from '../records/author.js';
import type { RecordListRequest, StoredRecord } from '../records/forms.js';
import { RecordLists } from '../records/listStore.js';
import { narrowed } from '../records/narrowing.js';
import { Records } from '../records/records.js';
import type { Parts } from './parts.js';

type PullCall = Call<(typeof operations.sync)['pull']>;
type Scope = BodyOf<(typeof operations.sync)['pull']>['scopes'][number];
type Changes = Omit<SyncScopeChanges, 'scope'>;
/** What every scope of one call shares: how many records the response still takes. */
type Course = { call: PullCall; author: Author; highest: number; left: number; more: boolean };

/** Ids and versions that are read at once, to compare. */
const COMPARED_AT_ONCE = 20_000;

export class Pulling {
  readonly #lists: RecordLists;

  constructor(private readonly parts: Parts) {
    this.#lists = new RecordLists(parts, new Records(parts));
  }

  async pull(call: PullCall): Promise<SyncPulled> {
    const environment = environmentOf(call);
    const { scopes, limit } = call.body;
    const course: Course = { call, author: authorOf(call), highest: await this.parts.feed.settle(environment), left: limit, more: false };
    const followed = await this.#changed(environment, course, scopes, limit);
    const answers: SyncScopeChanges[] = [];
    for (const [index, scope] of scopes.entries()) {
      const changes = await this.#scope(environment, course, scope, followed);
      if (Object.keys(changes).length > 0) answers.push({ scope: index, ...changes });
    }
    return { at: followed.until, more: course.more, scopes: answers };
  }

  /** What changed in the collections of all scopes that are followed, from the one that is behind most. */
  async #changed(environment: Environment, course: Course, scopes: readonly Scope[], limit: number): Promise<Followed> {
    const following = scopes.filter(({ at, fill, ids }) => at !== undefined && fill === undefined && ids === undefined);
    const after = Math.min(...following.map(({ at }) => at as number));
    if (following.length === 0 || after === course.highest) return { until: course.highest, oldest: 0, byCollection: new Map() };
    const oldest = await this.parts.feed.oldest(environment);
    const isKept = (at: number) => at <= course.highest && (oldest === 0 || at + 1 >= oldest);
    const kept = following.filter(({ at }) => isKept(at as number));
    if (kept.length === 0) return { until: course.highest, oldest, byCollection: new Map() };
    const between = { after: Math.min(...kept.map(({ at }) => at as number)), until: course.highest };
    const collections = [...new Set(kept.map(({ collection }) => collection))];
    const rows = await this.parts.feed.changed(environment, collections, between, limit + 1);
    if (rows.length <= limit) return { until: course.highest, oldest, byCollection: grouped(rows) };
    course.more = true;
    const taken = rows.slice(0, limit);
    return { until: (taken.at(-1) as ChangedRecord).number, oldest, byCollection: grouped(taken) };
  }

  async #scope(environment: Environment, course: Course, scope: Scope, followed: Followed): Promise<Changes> {
    try {
      const outside = await this.parts.recordPorts.elsewhere(environment, scope.collection);
      if (outside)
        return {
          ...(await this.#outside(course, scope, (request) => outside.list(request, course.author))),
          ...(await this.#outsideShape(environment, scope)),
        };
      const shape = await this.parts.catalogue.get(environment, scope.collection);
      const reader = await this.#reader(course, scope);
      return { ...(await this.#changesOf(course, scope, followed, reader)), ...shapeFor(shape, course.author, scope.shape) };
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      return { problem: error.toDocument() };
    }
  }

  #changesOf(course: Course, scope: Scope, followed: Followed, read: Reader): Promise<Changes> {
    if (scope.ids) return present(scope.ids, scope, read);
    if (scope.ranges) return differing(scope.ranges, read);
    if (scope.at === undefined || scope.fill !== undefined) return fill(course, scope, read);
    if (scope.at > course.highest || (followed.oldest > 0 && scope.at + 1 < followed.oldest)) return Promise.resolve({ anew: true });
    const ids = followed.byCollection.get(scope.collection);
    return ids ? present([...ids], scope, read) : Promise.resolve({});
  }

  /** Reads the records of a scope, by its filter and by what rules and functions of the team make of it. */
  async #reader({ call, author }: Course, { collection, filter }: Scope): Promise<Reader> {
    const { environment, query } = await narrowed(this.parts, { ...call, params: { collection } }, 'list', { filter });
    return async (request) => {
      const page = await this.#lists.list(environment, collection, { ...query, sort: 'id', ...request }, author);
      const asked = { collection, action: 'list' as const, items: page.items };
      return { ...page, items: await this.parts.recordPorts.hooks.reshape(environment, author, asked) };
    };
  }

  /** A table of another server has no feed: it is read page by page each time. */
  async #outside(course: Course, scope: Scope, list: Reader): Promise<Changes> {
    if (scope.at !== undefined && scope.fill === undefined) return {};
    const filled = await fill(course, scope, ({ cursor, limit }) => list({ filter: scope.filter, sort: 'id', cursor, limit }));
    return { ...filled, outside: true };
  }

  async #outsideShape(environment: Environment, { collection, shape: known }: Scope): Promise<Changes> {
    const found = (await this.parts.collectionPorts.elsewhere(environment)).find(({ name }) => name === collection);
    const told = found && toldOf(found.fields.filter(({ hidden }) => !hidden).map(({ name, ...field }) => [name, field as Field] as const));
    return told && told.name !== known ? { shape: told } : {};
  }
}

type Followed = { until: number; oldest: number; byCollection: ReadonlyMap<string, ReadonlySet<string>> };
type Reader = (request: Pick<RecordListRequest, 'ids' | 'fields' | 'cursor' | 'limit' | 'filter' | 'sort'>) => Promise<{
  items: StoredRecord[];
  next?: string;
}>;

function grouped(rows: readonly ChangedRecord[]): Map<string, Set<string>> {
  const found = new Map<string, Set<string>>();
  for (const { collection, recordId } of rows) found.set(collection, (found.get(collection) ?? new Set()).add(recordId));
  return found;
}

/** Some records as they are now: those of the scope, and the ids of those that are not in it. */
async function present(ids: readonly string[], { names }: Scope, read: Reader): Promise<Changes> {
  if (ids.length === 0) return {};
  const { items } = await read({ ids, limit: ids.length, ...(names ? { fields: 'version' } : {}) });
  const found = new Set(items.map(({ id }) => id));
  const gone = ids.filter((id) => !found.has(id));
  const there = names ? { changed: items.map(({ id, version }): [string, number] => [id, version]) } : { records: items as never[] };
  return { ...(items.length > 0 ? there : {}), ...(gone.length > 0 ? { gone } : {}) };
}

/** The next page of a fill. What changes meanwhile comes by following from the number at which it began. */
async function fill(course: Course, scope: Scope, read: Reader): Promise<Changes> {
  if (course.left === 0) {
    course.more = true;
    return {};
  }
  const { items, next } = await read({ limit: course.left, ...(scope.fill ? { cursor: scope.fill } : {}) });
  course.left -= items.length;
  if (next) course.more = true;
  return { at: scope.at ?? course.highest, ...(items.length > 0 ? { records: items as never[] } : {}), ...(next ? { fill: next } : {}) };
}

/** Which ranges of what a device holds are not as they are here. */
async function differing(ranges: NonNullable<Scope['ranges']>, read: Reader): Promise<Changes> {
  const held: Held[] = [];
  for (let cursor: string | undefined; ; ) {
    const page = await read({ fields: 'version', limit: COMPARED_AT_ONCE, ...(cursor ? { cursor } : {}) });
    held.push(...page.items);
    cursor = page.next;
    if (!cursor) break;
  }
  held.sort((a, b) => (a.id < b.id ? -1 : 1));
  const found: NonNullable<Changes['differing']> = [];
  let from = 0;
  for (const [range, { until, count, digest }] of ranges.entries()) {
    let to = from;
    while (to < held.length && (until === null || (held[to] as Held).id <= until)) to++;
    const part = held.slice(from, to);
    if (part.length !== count || digestOf(part) !== digest) found.push({ range, held: part.map(({ id, version }) => [id, version]) });
    from = to;
  }
  return found.length > 0 ? { differing: found } : {};
}

const shapes = new WeakMap<CollectionShape, NonNullable<Changes['shape']>>();

/** What a device must know of the fields to filter and merge by itself, where it does not know it. */
function shapeFor(shape: CollectionShape, { trusted }: Author, known: string | undefined): Changes {
  let told = trusted ? undefined : shapes.get(shape);
  if (!told) {
    told = toldOf([...shape.fields].filter(([, { hidden }]) => trusted || !hidden));
    if (!trusted) shapes.set(shape, told);
  }
  return told.name === known ? {} : { shape: told };
}

function toldOf(seen: readonly (readonly [string, Field])[]): NonNullable<Changes['shape']> {
  const some = <T>(of: (field: Field) => T | null | undefined): Record<string, T> =>
    Object.fromEntries(
      seen.flatMap(([name, field]) => {
        const value = of(field) ?? null;
        return value === null ? [] : [[name, value]];
      }),
    );
  const facts = {
    fields: some(({ type }) => type),
    references: some((field) => targetOfField(field)),
    merge: some(({ merge }) => merge),
    defaults: some((field) => field.default),
  };
  return { name: createHash('sha256').update(JSON.stringify(facts)).digest('base64url').slice(0, 12), ...facts };
}
