/**
 * What an author may read: records by the read rule of their collection, and fields by rules of their own. A field that the
 * author may not see is left out of what is shown, and missing to the author's filters.
 */
import { type Asking, bindSlots, type Evaluator, type JsonObject, type Related } from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import type { Shapes } from '../collections/catalogue.js';
import { type Guard, guardsOf, ruleOf, ruleSql, targetOf } from '../collections/querySql.js';
import { type CollectionShape, presentRow, type RecordRow, withoutHidden } from '../collections/shape.js';
import { askingOf, type Author } from './author.js';
import { readRow } from './recordSql.js';

/** Whose rights a condition is evaluated with: the team's, for its own rules, or those of the author who sent it. */
export type Through = 'team' | { author: Author; now: number };

/**
 * The records that a condition's references lead to from one record. Records that a caller may not read count as missing in
 * the caller's own conditions; the team's rules follow every reference.
 */
export async function loadRelated(
  on: Statements,
  shapes: Shapes,
  shape: CollectionShape,
  record: JsonObject,
  paths: readonly string[],
  through: Through,
): Promise<Related> {
  const related = new Map<string, JsonObject | null>();
  for (const path of paths) {
    const steps = path.split('.');
    const from = steps.length === 1 ? record : (related.get(steps.slice(0, -1).join('.')) ?? null);
    let target: CollectionShape | null = shape;
    for (const step of steps) target = target && targetOf(shapes, target, step, true);
    const id = from?.[steps.at(-1) as string];
    const found = target && typeof id === 'string' ? await readRecord(on, target, id) : null;
    related.set(path, found && target && (await shownThrough(on, shapes, target, found, through)));
  }
  return related;
}

async function shownThrough(
  on: Statements,
  shapes: Shapes,
  shape: CollectionShape,
  record: JsonObject,
  through: Through,
): Promise<JsonObject | null> {
  if (through === 'team') return record;
  const { author, now } = through;
  return (await mayRead(on, shapes, shape, record, author, now)) ? asSeen(on, shapes, shape, record, author, now) : null;
}

/** Whether the read rule of a collection allows the author this record. */
export async function mayRead(
  on: Statements,
  shapes: Shapes,
  shape: CollectionShape,
  record: JsonObject,
  author: Author,
  now: number,
): Promise<boolean> {
  if (author.trusted) return true;
  const rule = ruleOf(shapes, shape, 'read');
  if ('broken' in rule) return false;
  const related = rule.paths.length > 0 ? await loadRelated(on, shapes, shape, record, rule.paths, 'team') : undefined;
  return holds(rule.evaluate, record, askingOf(author, now), related);
}

/** Whether a condition is true of a record. Arithmetic out of range is unknown, as in the database. */
export function holds(evaluate: Evaluator, record: JsonObject, asking: Asking, related?: Related): boolean {
  try {
    return evaluate(record, asking, related) === true;
  } catch (error) {
    if (error instanceof RangeError) return false;
    throw error;
  }
}

async function readRecord(on: Statements, shape: CollectionShape, id: string): Promise<JsonObject | null> {
  const row = await readRow(on, shape, id);
  return row ? presentRow(shape, { ...row, version: row.version ?? 0, ownerId: row.ownerId ?? null }, null, true) : null;
}

/** Columns that say of each row which of its fields the author sees, as `_seen0` and so on. */
export type SeenColumns = { guards: readonly Guard[]; sql: string[]; values: unknown[] };

export function seenColumns(shapes: Shapes, shape: CollectionShape, author: Author, asking: Asking, alias: string): SeenColumns {
  const guards = author.trusted ? [] : guardsOf(shapes, shape);
  const tests = guards.map(({ rule }) => ruleSql(shapes, shape, rule, alias) ?? { sql: 'TRUE', slots: [] });
  return {
    guards,
    sql: tests.map(({ sql }, i) => `(${sql}) AS _seen${i}`),
    values: bindSlots(
      tests.flatMap(({ slots }) => slots),
      asking,
    ),
  };
}

/**
 * Takes what the author may not see out of a row.
 * @returns the names of those fields
 */
export function hideInRow(row: RecordRow, guards: readonly Guard[]): string[] {
  const unseen = guards.filter((_, i) => !row[`_seen${i}`]).map(({ field }) => field);
  for (const field of unseen) row[field] = null;
  return unseen;
}

/** The fields of one record that the author may not see. */
export async function unseenIn(
  on: Statements,
  shapes: Shapes,
  shape: CollectionShape,
  record: JsonObject,
  author: Author,
  now: number,
): Promise<string[]> {
  const guards = author.trusted ? [] : guardsOf(shapes, shape);
  const unseen: string[] = [];
  for (const guard of guards) {
    const { rule } = guard;
    const paths = 'broken' in rule ? [] : rule.paths;
    const related = paths.length > 0 ? await loadRelated(on, shapes, shape, record, paths, 'team') : undefined;
    if (!isSeen(guard, record, askingOf(author, now), related)) unseen.push(guard.field);
  }
  return unseen;
}

/** A whole record as the author is shown it. */
export async function asSeen<R extends JsonObject>(
  on: Statements,
  shapes: Shapes,
  shape: CollectionShape,
  record: R,
  author: Author,
  now: number,
): Promise<R> {
  if (author.trusted) return record;
  return leaveOut(withoutHidden(shape, record), await unseenIn(on, shapes, shape, record, author, now));
}

export const isSeen = ({ rule }: Guard, record: JsonObject, asking: Asking, related?: Related): boolean =>
  !('broken' in rule) && holds(rule.evaluate, record, asking, related);

export function leaveOut<R extends JsonObject>(record: R, names: readonly string[]): R {
  if (names.length === 0) return record;
  const shown = { ...record };
  for (const name of names) delete shown[name];
  return shown;
}
