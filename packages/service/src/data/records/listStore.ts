/** Reading records: one, a page of them, and those they refer to. */
import { Problem } from '@orchard/contract';
import { bindSlots, excerptOf, type JsonObject, nearest, presetOf, type Slot, targetOfField } from '@orchard/core';
import { isOutOfRange } from '../../platform/database/errors.js';
import { bindList, type CompiledList, compileList, cutPage } from '../../platform/database/listing.js';
import { countAnswer, jsonBytes } from '../../platform/http/answerBytes.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import type { Shapes } from '../collections/catalogue.js';
import { attachIncluded, readInclude } from './includeStore.js';
import { QueryBuilder, ruleOf, scopeOf, visibleSql } from '../collections/querySql.js';
import type { Records } from './records.js';
import { type CollectionShape, presentRow, type RecordRow, visibleNames } from '../collections/shape.js';
import { askingOf, type Author } from './author.js';
import { presetReason, refusal } from './demands.js';
import { hideInRow, leaveOut, seenColumns, unseenIn } from './reading.js';
import type { RecordListRequest, RecordPage, StoredRecord } from './forms.js';

/** A list's SQL but for cursor and limit, with its placeholders by clause. */
type Prepared = {
  list: CompiledList;
  select: string;
  from: string;
  /** Of SELECT, the joins and the read rule, in this order. */
  before: Slot[];
  rule: string;
  only: ReadonlySet<string> | null;
};

export class RecordLists {
  constructor(
    private readonly parts: Parts,
    private readonly records: Records,
  ) {}

  async read(
    environment: Environment,
    collection: string,
    id: string,
    author: Author,
    request: { fields?: string | undefined; include?: string | undefined },
  ): Promise<StoredRecord> {
    const { shapes, shape } = await this.records.known(environment, collection);
    const row = await this.records.row(shape.db, shape, id);
    if (!row) return this.records.refuseMissing(author, shapes, shape, id);
    await this.records.demand(shape.db, author, { shapes, shape, action: 'read', row });
    const only = readFields(shape, request.fields, author.trusted);
    const whole = presentRow(shape, row, null, true);
    const unseen = await unseenIn(shape.db, shapes, shape, whole, author, this.parts.now());
    for (const field of unseen) row[field] = null;
    const record = leaveOut(presentRow(shape, row, only, author.trusted), unseen);
    if (request.include) await this.#include(shapes, shape, [row], [record], request.include, author);
    return record;
  }

  async list(environment: Environment, collection: string, request: RecordListRequest, author: Author): Promise<RecordPage> {
    const { shapes, shape } = await this.records.known(environment, collection);
    demandList(shapes, shape, author);
    const prepared = this.#prepared(shapes, shape, request, author);
    const asking = askingOf(author, this.parts.now());
    const plan = bindList(prepared.list, request, this.parts, asking);
    const seen = seenColumns(shapes, shape, author, asking, 't');
    const values = [...seen.values, ...bindSlots(prepared.before, asking), ...plan.values, ...(request.ids ? [request.ids] : [])];
    const where = `${prepared.rule}${plan.where}${request.ids ? ' AND t.id IN (?)' : ''}`;
    const started = process.hrtime.bigint();
    // A statement with a list of ids is not worth keeping prepared: its length differs each time.
    const ask = request.ids ? 'runRows' : 'rows';
    const rows = await inRange(() =>
      shape.db[ask]<RecordRow>(
        `SELECT ${[...seen.sql, prepared.select].join(', ')} FROM ${prepared.from} WHERE ${where} ORDER BY ${plan.orderBy} LIMIT ${plan.limit + 1}`,
        values,
      ),
    );
    this.parts.queryLog.note(environment, shape, request, Number(process.hrtime.bigint() - started) / 1000);
    const page: RecordPage = cutPage(
      rows,
      plan,
      this.parts,
      (row, field) => row[field],
      (row) => {
        const unseen = hideInRow(row, seen.guards);
        return leaveOut(presentRow(shape, row, prepared.only, author.trusted), unseen);
      },
    );
    if (request.include) await this.#include(shapes, shape, rows.slice(0, plan.limit), page.items, request.include, author);
    if (request.excerpts) addExcerpts(shape, prepared.list, page.items);
    if (request.count) page.count = await this.#count(shape, prepared, request, author);
    return page;
  }

  async #count({ db }: CollectionShape, prepared: Prepared, request: RecordListRequest, author: Author): Promise<number> {
    const asking = askingOf(author, this.parts.now());
    const plan = bindList(prepared.list, { ...request, cursor: undefined }, this.parts, asking);
    // The placeholders of SELECT come first; a count has none.
    const selected = prepared.list.sort.filter(({ computed }) => computed).flatMap(({ sql }) => sql.slots).length;
    const [row] = await db.rows<{ n: number }>(`SELECT COUNT(*) AS n FROM ${prepared.from} WHERE ${prepared.rule}${plan.where}`, [
      ...bindSlots(prepared.before.slice(selected), asking),
      ...plan.values,
    ]);
    return Number(row?.n ?? 0);
  }

  #prepared(shapes: Shapes, shape: CollectionShape, { filter, sort, fields }: RecordListRequest, author: Author): Prepared {
    const key = `list ${shape.name} ${author.trusted} ${JSON.stringify([filter, sort, fields])}`;
    const known = shapes.compiled.get(key) as Prepared | undefined;
    if (known) return known;
    const prepared = prepareList(shapes, shape, { filter, sort, fields }, author.trusted);
    shapes.compiled.set(key, prepared);
    return prepared;
  }

  async #include(
    shapes: Shapes,
    shape: CollectionShape,
    rows: RecordRow[],
    items: JsonObject[],
    include: string,
    author: Author,
  ): Promise<void> {
    const wanted = readInclude(shapes, shape, include, author.trusted);
    await attachIncluded(
      { on: shape.db, shapes, author, asking: askingOf(author, this.parts.now()), read: { bytes: 0 } },
      rows,
      items,
      wanted,
    );
    // A record included many times is stored once here, and written each time.
    countAnswer(jsonBytes(items, new Map()));
  }
}

/** Adds what was found in the texts of each item. @throws {Problem} invalid-input */
function addExcerpts({ indexed }: CollectionShape, { words }: CompiledList, items: JsonObject[]): void {
  if (!words)
    throw new Problem('invalid-input', 'Excerpts need a filter that searches.', {
      fields: [{ path: 'query.excerpts', problem: 'The filter searches for nothing.', expected: "a filter with search('…')" }],
    });
  for (const item of items)
    item._excerpts = indexed.searched.flatMap((field) => {
      const text = item[field];
      const excerpt = typeof text === 'string' ? excerptOf(text, words) : null;
      return excerpt ? [{ field, ...excerpt }] : [];
    });
}

/** For callers who can read nothing at all, a list is refused rather than empty. */
export function demandList(shapes: Shapes, shape: CollectionShape, author: Author): void {
  if (author.trusted) return;
  const rule = ruleOf(shapes, shape, 'read');
  if ('broken' in rule) throw refusal(shape, 'read', `it no longer fits the fields (${rule.broken}), so nobody passes it`, author);
  const preset = presetOf(shape.rules.read);
  const asksForSomebody = author.userId === null && (preset === 'owner' || preset === 'signed-in');
  if (asksForSomebody || (rule.condition.is === 'always' && !rule.condition.value))
    throw refusal(shape, 'read', presetReason(asksForSomebody ? preset : 'nobody', author), author);
}

function prepareList(
  shapes: Shapes,
  shape: CollectionShape,
  { filter, sort, fields }: Pick<RecordListRequest, 'filter' | 'sort' | 'fields'>,
  trusted: boolean,
): Prepared {
  const builder = new QueryBuilder(shapes, shape);
  const rule = trusted ? null : visibleSql(shapes, shape, 't');
  const list = compileList({ scope: scopeOf(shapes, shape, trusted), names: builder.names(trusted) }, { filter, sort }, 'id');
  const only = readFields(shape, fields, trusted);
  const names = visibleNames(shape, true).filter(
    (name) =>
      !only ||
      only.has(name) ||
      ['id', 'version', 'createdAt', 'updatedAt', 'ownerId'].includes(name) ||
      list.sort.some((term) => term.name === name) ||
      targetOfField(shape.fields.get(name) ?? { type: 'text' }) !== null,
  );
  const computed = list.sort.filter((term) => term.computed);
  const { joins } = builder;
  return {
    list,
    select: [...names.map((name) => `t.\`${name}\``), ...computed.map(({ sql, name }) => `${sql.sql} AS ${name}`)].join(', '),
    from: `${shape.table} t${joins.sql}`,
    before: [...computed.flatMap(({ sql }) => sql.slots), ...joins.slots, ...(rule?.slots ?? [])],
    rule: rule ? `${rule.sql} AND ` : '',
    only,
  };
}

/** The field names of a `fields` parameter; null for all. @throws {Problem} invalid-input */
export function readFields(shape: CollectionShape, text: string | undefined, withHidden: boolean): ReadonlySet<string> | null {
  if (!text) return null;
  const names = text
    .split(',')
    .map((name) => name.trim())
    .filter(Boolean);
  const visible = visibleNames(shape, withHidden);
  for (const name of names) {
    if (!visible.includes(name)) {
      const problem = `\`${shape.name}\` has no field \`${name}\`${nearest(name, visible) || '.'}`;
      throw new Problem('invalid-input', problem, {
        fields: [{ path: 'query.fields', problem, expected: `some of: ${visible.join(', ')}` }],
      });
    }
  }
  return new Set(names);
}

/** Arithmetic of a filter that overflows is the filter's fault, not the service's. */
export async function inRange<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (isOutOfRange(error))
      throw new Problem(
        'malformed-filter',
        'The arithmetic of the filter overflows for some records. Exclude those records first, or compute with smaller numbers.',
      );
    throw error;
  }
}
