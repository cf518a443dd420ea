/**
 * Included records: `hut` follows a reference, `bookings(hut)` adds the bookings whose `hut` is this record, and
 * `hut.warden` continues from there. One statement for each step, whatever the number of records.
 */
import { Problem } from '@orchard/contract';
import { type Asking, bindSlots, type JsonObject, nearest, grouped, type Sql } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import { countAnswer, jsonBytes } from '../../platform/http/answerBytes.js';
import type { Shapes } from '../collections/catalogue.js';
import { fieldRuleOf, guardsOf, ruleSql, targetOf, visibleSql } from '../collections/querySql.js';
import { type CollectionShape, presentRow, type RecordRow, visibleNames } from '../collections/shape.js';
import type { Author } from './author.js';
import { hideInRow, leaveOut, seenColumns } from './reading.js';

const MAX_DEPTH = 3;
const MAX_PATHS = 10;
/** The most records that one backward reference adds to a record. */
const MAX_BACKWARD = 50;

/** One step of an include, and the steps after it. */
export type Step = { name: string; shape: CollectionShape; field: string; backward: boolean; next: Step[] };
/** `read` counts the bytes of all rows so far. */
type Ground = { on: Statements; shapes: Shapes; author: Author; asking: Asking; read: { bytes: number } };

const invalid = (problem: string, expected: string) =>
  new Problem('invalid-input', problem, { fields: [{ path: 'query.include', problem, expected }] });

/** Reads an `include` parameter. @throws {Problem} invalid-input */
export function readInclude(shapes: Shapes, shape: CollectionShape, text: string, withHidden: boolean): Step[] {
  const paths = text
    .split(',')
    .map((path) => path.trim())
    .filter(Boolean);
  if (paths.length > MAX_PATHS) throw invalid(`A list includes at most ${MAX_PATHS} references.`, `up to ${MAX_PATHS}, comma-separated`);
  const steps: Step[] = [];
  for (const path of paths) addPath(shapes, shape, steps, path, path.split('.'), withHidden);
  return steps;
}

function addPath(shapes: Shapes, shape: CollectionShape, steps: Step[], path: string, names: string[], withHidden: boolean): void {
  if (names.length > MAX_DEPTH) throw invalid(`\`${path}\` follows ${names.length} references one after another.`, `at most ${MAX_DEPTH}`);
  let [at, list] = [shape, steps];
  for (const name of names) {
    let step = list.find((one) => one.name === name);
    if (!step) {
      step = readStep(shapes, at, name, withHidden);
      list.push(step);
    }
    at = step.shape;
    list = step.next;
  }
}

function readStep(shapes: Shapes, shape: CollectionShape, name: string, withHidden: boolean): Step {
  const [, collection, field] = /^(\w+)\((\w+)\)$/.exec(name) ?? [];
  if (collection && field) {
    const from = shapes.collections.get(collection);
    const target = from && targetOf(shapes, from, field, withHidden);
    if (from && target?.table === shape.table) return { name, shape: from, field, backward: true, next: [] };
    throw invalid(`No reference \`${field}\` of \`${collection}\` points to \`${shape.name}\`.`, possibleSteps(shapes, shape, withHidden));
  }
  const target = targetOf(shapes, shape, name, withHidden);
  if (!target)
    throw invalid(
      `\`${shape.name}\` has no reference \`${name}\`${nearest(name, visibleNames(shape, withHidden)) || '.'}`,
      possibleSteps(shapes, shape, withHidden),
    );
  return { name, shape: target, field: name, backward: false, next: [] };
}

function possibleSteps(shapes: Shapes, shape: CollectionShape, withHidden: boolean): string {
  const forward = visibleNames(shape, withHidden).filter((name) => targetOf(shapes, shape, name, withHidden));
  const backward = [...shapes.collections.values()].flatMap((from) =>
    visibleNames(from, withHidden)
      .filter((name) => targetOf(shapes, from, name, withHidden)?.table === shape.table)
      .map((name) => `${from.name}(${name})`),
  );
  return [...forward, ...backward].join(', ') || 'nothing: no reference points from or to this collection';
}

/** Adds the included records under `_included` of each item. */
export async function attachIncluded(ground: Ground, rows: RecordRow[], items: JsonObject[], steps: readonly Step[]): Promise<void> {
  if (rows.length === 0) return;
  for (const step of steps) await (step.backward ? attachBackward : attachForward)(ground, rows, items, step);
}

async function attachForward(ground: Ground, rows: RecordRow[], items: JsonObject[], step: Step): Promise<void> {
  const ids = [...new Set(rows.map((row) => row[step.field]).filter((id): id is string => typeof id === 'string'))];
  const found = ids.length > 0 ? await select(ground, step, 'r.id IN (?)', [ids]) : [];
  const shown = present(ground, step, found);
  await attachIncluded(ground, found, shown, step.next);
  const byId = new Map(shown.map((record) => [record.id as string, record]));
  for (const [i, item] of items.entries()) put(item, step.name, byId.get(rows[i]?.[step.field] as string) ?? null);
}

async function attachBackward(ground: Ground, rows: RecordRow[], items: JsonObject[], step: Step): Promise<void> {
  const ids = rows.map(({ id }) => id);
  const ranked = await select(
    ground,
    step,
    `r.\`${step.field}\` IN (?)`,
    [ids],
    `ROW_NUMBER() OVER (PARTITION BY r.\`${step.field}\` ORDER BY r.id) AS _rank`,
    `_rank <= ${MAX_BACKWARD + 1}`,
  );
  const kept = ranked.filter((row) => Number(row._rank) <= MAX_BACKWARD);
  const shown = present(ground, step, kept);
  await attachIncluded(ground, kept, shown, step.next);
  const more = new Set(ranked.filter((row) => Number(row._rank) > MAX_BACKWARD).map((row) => row[step.field]));
  const byTarget = grouped(
    shown.map((record, i) => ({ record, to: kept[i]?.[step.field] as string })),
    ({ to }) => to,
  );
  items.forEach((item, i) => {
    const id = ids[i] as string;
    put(item, step.name, { items: (byTarget.get(id) ?? []).map(({ record }) => record), more: more.has(id) });
  });
}

/** The rows of a step that the caller may read. */
async function select(
  { on, shapes, author, asking, read }: Ground,
  { shape, field, backward }: Step,
  condition: string,
  values: unknown[],
  extra?: string,
  outer?: string,
): Promise<RecordRow[]> {
  const rules = author.trusted ? [] : [visibleSql(shapes, shape, 'r'), backward ? fieldSeenSql(shapes, shape, field) : null];
  const guards = rules.filter((rule) => rule !== null);
  const seen = seenColumns(shapes, shape, author, asking, 'r');
  const columns = ['r.*', ...seen.sql, ...(extra ? [extra] : [])].join(', ');
  const sql = `SELECT ${columns} FROM ${shape.table} r WHERE ${[condition, ...guards.map((guard) => guard.sql)].join(' AND ')}`;
  const rows = await on.runRows<RecordRow>(outer ? `SELECT * FROM (${sql}) AS ranked WHERE ${outer}` : sql, [
    ...seen.values,
    ...values,
    ...bindSlots(
      guards.flatMap(({ slots }) => slots),
      asking,
    ),
  ]);
  // Each of them appears in the response at least once.
  read.bytes += jsonBytes(rows as never, new Map());
  countAnswer(read.bytes);
  return rows;
}

/** A record is found by a reference to it only by those who may see the reference. */
function fieldSeenSql(shapes: Shapes, shape: CollectionShape, field: string): Sql | null {
  const rule = fieldRuleOf(shapes, shape, field, 'seenBy');
  return rule && ruleSql(shapes, shape, rule, 'r');
}

/** A user's row holds more than others may see: only the fields of its shape are shown. */
function present({ author, shapes }: Ground, { shape }: Step, rows: RecordRow[]): JsonObject[] {
  const guards = author.trusted ? [] : guardsOf(shapes, shape);
  return rows.map((row) => {
    const unseen = hideInRow(row, guards);
    return leaveOut(presentRow(shape, { ...row, version: row.version ?? 0, ownerId: row.ownerId ?? null }, null, author.trusted), unseen);
  });
}

function put(item: JsonObject, name: string, value: JsonObject | null): void {
  item._included = { ...(item._included as JsonObject | undefined), [name]: value };
}
