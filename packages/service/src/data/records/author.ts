/** Who reads or writes records, and whether access rules allow it. */
import { Problem } from '@orchard/contract';
import {
  type Asking,
  type Evaluator,
  explainFilter,
  type Explained,
  type JsonObject,
  presetOf,
  type RecordAction,
  type Related,
  type RulePreset,
  writeActor,
} from '@orchard/core';
import type { Statements } from '../../platform/database/connection.js';
import { actorOf, type Call, environmentOf, explainsRefusals, untold } from '../../platform/call.js';
import { inSpan } from '../../platform/http/spans.js';
import type { Shapes } from '../collections/catalogue.js';
import { fieldRuleOf, ruleOf, scopeOf, targetOf } from '../collections/querySql.js';
import { type CollectionShape, presentRow } from '../collections/shape.js';
import { readRow } from './recordSql.js';

/**
 * Who reads or writes. Access rules do not apply to `trusted` callers (members, server keys), who also see hidden fields and
 * may name an owner. A refusal shows `told` callers the rule, and that a record exists which they may not read.
 */
export type Author = {
  userId: string | null;
  roles: readonly string[];
  fields: JsonObject;
  trusted: boolean;
  told: boolean;
  by: string;
  /** Notes how long rules take, as a step of the call. */
  inRules?: <T>(work: Promise<T>) => Promise<T>;
};

type AuthorCall = Pick<Call, 'holder' | 'user' | 'member' | 'environment' | 'spans' | 'startedNs'>;

export function authorOf(call: AuthorCall): Author {
  const trusted = Boolean(call.member) || call.holder?.key.kind === 'server';
  const told = trusted || explainsRefusals(environmentOf(call));
  return {
    userId: call.user?.id ?? null,
    roles: call.user?.roles ?? [],
    fields: call.user?.fields ?? {},
    trusted,
    told,
    by: writeActor(actorOf(call)),
    inRules: (work) => inSpan(call, 'rules', process.hrtime.bigint(), work),
  };
}

export const askingOf = (author: Author, now: number): Asking => ({
  me: { id: author.userId, roles: author.roles, fields: author.fields },
  now,
});

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
    const shown = found && target && (through === 'team' || (await mayRead(on, shapes, target, found, through.author, through.now)));
    related.set(path, shown ? found : null);
  }
  return related;
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

async function demandByRule(on: Statements, author: Author, now: number, { shapes, shape, action, record }: RuleSubject): Promise<void> {
  const rule = ruleOf(shapes, shape, action);
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
    const text = shape.fields.get(name)?.setBy;
    if (text === undefined) continue;
    const rule = fieldRuleOf(shapes, shape, name, text);
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
  return author.told ? new Problem('access-refused', full) : new Problem('access-refused', untold(rule, author), { teamDetail: full });
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
  if (author.told) return new Problem('access-refused', full);
  return new Problem('access-refused', untold(`The ${action} rule of \`${shape.name}\``, author), { teamDetail: full });
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
