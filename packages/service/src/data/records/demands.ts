/** What rules demand of an author, and what a refusal says. */
import type { Problem } from '@orchard/contract';
import { explainFilter, type Explained, type JsonObject, presetOf, type RecordAction, type RulePreset } from '@orchard/core';
import { refusedBy } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import type { Shapes } from '../collections/catalogue.js';
import { fieldRuleOf, type Rule, ruleOf, scopeOf } from '../collections/querySql.js';
import type { CollectionShape } from '../collections/shape.js';
import { askingOf, type Author } from './author.js';
import { holds, loadRelated } from './reading.js';

export type RuleSubject = { shapes: Shapes; shape: CollectionShape; action: RecordAction; record: JsonObject };

/**
 * Whether a collection's rule allows the author this action on the record.
 * @throws {Problem} access-refused
 */
export async function demand(on: Statements, author: Author, now: number, subject: RuleSubject): Promise<void> {
  if (author.trusted) return;
  const work = demandByRule(on, author, now, subject);
  await (author.inRules ? author.inRules(work) : work);
}

async function demandByRule(on: Statements, author: Author, now: number, subject: RuleSubject): Promise<void> {
  await judge(on, author, now, subject, ruleOf(subject.shapes, subject.shape, subject.action));
}

/** Whether a rule allows it. @throws {Problem} access-refused, in the words of the shape that is given */
export async function judge(
  on: Statements,
  author: Author,
  now: number,
  { shapes, shape, action, record }: RuleSubject,
  rule: Rule,
): Promise<void> {
  if ('broken' in rule) throw refusal(shape, action, `it no longer fits the fields (${rule.broken}), so nobody passes it`, author);
  const asking = askingOf(author, now);
  const related = rule.paths.length > 0 ? await loadRelated(on, shapes, shape, record, rule.paths, 'team') : undefined;
  if (holds(rule.evaluate, record, asking, related)) return;
  throw refusal(
    shape,
    action,
    why(shape.rules[action], author, () => explainFilter(rule.tree, scopeOf(shapes, shape, true), record, asking, related)),
    author,
  );
}

/**
 * Whether the author may set these fields, where they have a rule of their own.
 * @param record as it is before, or as it is created: nobody lets themselves in by the same write
 * @throws {Problem} access-refused
 */
export async function demandSettable(
  on: Statements,
  author: Author,
  now: number,
  { shapes, shape, record }: Omit<RuleSubject, 'action'>,
  names: readonly string[],
): Promise<void> {
  if (author.trusted) return;
  for (const name of names) {
    const rule = fieldRuleOf(shapes, shape, name, 'setBy');
    if (!rule) continue;
    const text = shape.fields.get(name)?.setBy as string;
    if ('broken' in rule)
      throw fieldRefusal(shape, name, text, `it no longer fits the fields (${rule.broken}), so nobody passes it`, author);
    const asking = askingOf(author, now);
    const related = rule.paths.length > 0 ? await loadRelated(on, shapes, shape, record, rule.paths, 'team') : undefined;
    if (holds(rule.evaluate, record, asking, related)) continue;
    const reason = why(text, author, () => explainFilter(rule.tree, scopeOf(shapes, shape, true), record, asking, related));
    throw fieldRefusal(shape, name, text, reason, author);
  }
}

function fieldRefusal({ name: collection }: CollectionShape, field: string, text: string, reason: string, author: Author): Problem {
  const rule = `The rule for setting \`${field}\` of \`${collection}\``;
  const full = `${rule}, ${text}, refuses this: ${reason}.`;
  return refusedBy(author, rule, full);
}

/**
 * A refusal by a rule. Callers without explanations get the name of the rule and what to do; the team finds the details at
 * the recorded request.
 */
export function refusal(
  shape: Pick<CollectionShape, 'name' | 'rules'>,
  action: RecordAction,
  reason: string,
  author: Pick<Author, 'told' | 'userId'>,
): Problem {
  const full = `The ${action} rule of \`${shape.name}\`, ${shape.rules[action]}, refuses this: ${reason}.`;
  return refusedBy(author, `The ${action} rule of \`${shape.name}\``, full);
}

const why = (text: string, author: Author, explain: () => Explained): string => {
  const preset = presetOf(text);
  return preset && preset !== 'everyone' ? presetReason(preset, author) : reasonOf(explain(), author);
};

/** Why a named rule refuses, in words. */
export function presetReason(preset: Exclude<RulePreset, 'everyone'>, author: Author): string {
  switch (preset) {
    case 'nobody':
      return 'the rule is FALSE: only server keys may';
    case 'signed-in':
      return 'the rule requires a signed-in user, and nobody is signed in';
    case 'owner':
      return author.userId ? 'the record belongs to somebody else' : 'the rule requires the owner of the record, and nobody is signed in';
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
 * Refuses a missing record if the rule would refuse any record: to a caller who may read nothing here, missing and hidden
 * look the same.
 */
export function demandMissing(author: Author, now: number, shapes: Shapes, shape: CollectionShape): void {
  if (!author.told || author.trusted) return;
  const rule = ruleOf(shapes, shape, 'read');
  if ('broken' in rule) return;
  const truth = rule.evaluate({ ownerId: author.userId }, askingOf(author, now));
  if (truth === false || (truth === null && !author.userId))
    throw refusal(
      shape,
      'read',
      why(shape.rules.read, author, () => ({ text: shape.rules.read, result: truth, decided: true })),
      author,
    );
}
