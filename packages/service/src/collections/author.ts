/** Who reads or writes records, and what the access rules say to that. */
import { Problem } from '@orchard/contract';
import {
  type Asking,
  explainFilter,
  type Explained,
  type JsonObject,
  presetOf,
  type RecordAction,
  type Related,
  type RulePreset,
} from '@orchard/core';
import type { Statements } from '../database/connection.js';
import type { Call } from '../http/call.js';
import type { Shapes } from './catalogue.js';
import { ruleOf, scopeOf, targetOf } from './query.js';
import { type CollectionShape, presentRow, type RecordRow } from './shape.js';

/** `trusted` callers (members, server keys) stand above access rules, see hidden fields and may name an owner. */
export type Author = { userId: string | null; roles: readonly string[]; trusted: boolean; by: string };

/** The author of a call: `user:<id>`, `key:<client>/<name>`, `member:<e-mail>`. */
export function authorOf(call: Pick<Call, 'holder' | 'user' | 'member'>): Author {
  const server = call.holder?.key.kind === 'server';
  const by = call.member
    ? `member:${call.member.email}`
    : server
      ? `key:${call.holder?.client.name}/${call.holder?.key.name}`
      : call.user
        ? `user:${call.user.id}`
        : `client:${call.holder?.client.name ?? ''}`;
  return { userId: call.user?.id ?? null, roles: call.user?.roles ?? [], trusted: Boolean(call.member) || server, by };
}

export const askingOf = (author: Author, now: number): Asking => ({ me: { id: author.userId, roles: author.roles }, now });

/** The records that a rule's references lead to from one record. */
export async function loadRelated(
  on: Statements,
  shapes: Shapes,
  shape: CollectionShape,
  record: JsonObject,
  paths: readonly string[],
): Promise<Related> {
  const related = new Map<string, JsonObject | null>();
  for (const path of paths) {
    const steps = path.split('.');
    const from = steps.length === 1 ? record : (related.get(steps.slice(0, -1).join('.')) ?? null);
    let target: CollectionShape | null = shape;
    for (const step of steps) target = target && targetOf(shapes, target, step, true);
    const id = from?.[steps.at(-1) as string];
    related.set(path, target && typeof id === 'string' ? await readRecord(on, target, id) : null);
  }
  return related;
}

async function readRecord(on: Statements, shape: CollectionShape, id: string): Promise<JsonObject | null> {
  const [row] = await on.rows<RecordRow>(`SELECT * FROM ${shape.table} WHERE id = ?`, [id]);
  return row ? presentRow(shape, { ...row, version: row.version ?? 0, ownerId: row.ownerId ?? null }, null, true) : null;
}

export type RuleSubject = { shapes: Shapes; shape: CollectionShape; action: RecordAction; record: JsonObject };

/** Whether the rule of a collection lets the author do this to the record. @throws {Problem} access-refused */
export async function demand(on: Statements, author: Author, now: number, { shapes, shape, action, record }: RuleSubject): Promise<void> {
  if (author.trusted) return;
  const rule = ruleOf(shapes, shape, action);
  if ('broken' in rule)
    throw new Problem(
      'access-refused',
      `The ${action} rule of \`${shape.name}\`, ${shape.rules[action]}, no longer fits its fields, so nobody passes it: ${rule.broken}.`,
    );
  const asking = askingOf(author, now);
  const related = rule.paths.length > 0 ? await loadRelated(on, shapes, shape, record, rule.paths) : undefined;
  if (rule.evaluate(record, asking, related) === true) return;
  throw refusal(
    shape,
    action,
    why(shape.rules[action], author, () => explainFilter(rule.tree, scopeOf(shapes, shape, true), record, asking, related)),
  );
}

export const refusal = (shape: Pick<CollectionShape, 'name' | 'rules'>, action: RecordAction, reason: string): Problem =>
  new Problem('access-refused', `The ${action} rule of \`${shape.name}\`, ${shape.rules[action]}, refuses this: ${reason}.`);

const why = (text: string, author: Author, explain: () => Explained): string => {
  const preset = presetOf(text);
  return preset && preset !== 'everyone' ? presetReason(preset, author) : reasonOf(explain(), author);
};

/** Why a rule that has a name refuses, in words. */
export function presetReason(preset: Exclude<RulePreset, 'everyone'>, author: Author): string {
  switch (preset) {
    case 'nobody':
      return 'the rule is FALSE: nobody may, except with a server key';
    case 'signed-in':
      return 'the rule asks for a signed-in user, and nobody is signed in';
    case 'owner':
      return author.userId ? 'the record belongs to somebody else' : 'the rule asks for the owner of the record, and nobody is signed in';
  }
}

function reasonOf(explained: Explained, author: Author): string {
  const parts = decidingParts(explained).map(({ text, result }) => `${text} is ${result === null ? 'unknown' : result}`);
  return `${parts.slice(0, 3).join(', and ')}${author.userId ? '' : '; nobody is signed in'}`;
}

/** The innermost parts that decided. */
export const decidingParts = (explained: Explained): Explained[] =>
  explained.parts ? explained.parts.filter(({ decided }) => decided).flatMap(decidingParts) : [explained];

/**
 * Refuses to read what is missing, where the rule would refuse it in any case: to somebody who may read nothing here,
 * what is missing and what is hidden look the same.
 */
export function demandMissing(author: Author, now: number, shapes: Shapes, shape: CollectionShape): void {
  if (author.trusted) return;
  const rule = ruleOf(shapes, shape, 'read');
  if ('broken' in rule) return;
  const truth = rule.evaluate({ ownerId: author.userId }, askingOf(author, now));
  if (truth === false || (truth === null && !author.userId))
    throw refusal(
      shape,
      'read',
      why(shape.rules.read, author, () => ({ text: shape.rules.read, result: truth, decided: true })),
    );
}
