/** Tries a rule of a collection or of a field: whether it allows a user and a record, and which part decided. */
import { Problem } from '@orchard/contract';
import { checkFields, explainFilter, type JsonObject, nearest, type RecordAction } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { readRule, scopeOf } from '../collections/querySql.js';
import type { Records } from './records.js';
import { missing } from './recordProblems.js';
import { type CollectionShape, presentRow } from '../collections/shape.js';
import { newRecord } from './writeStore.js';
import { asUser } from './asUser.js';
import { askingOf, type Author } from './author.js';
import { loadRelated } from './reading.js';

export type Trial = {
  action: RecordAction | 'see' | 'set';
  field?: string | undefined;
  user: string | null;
  roles?: string[] | undefined;
  record: string | JsonObject;
  rule?: string | undefined;
};

const NOBODY: Author = { userId: null, roles: [], fields: {}, trusted: false, told: true, by: '' };

export async function tryRule(parts: Parts, records: Records, environment: Environment, collection: string, trial: Trial) {
  const { shapes, shape } = await records.known(environment, collection);
  const author: Author = {
    ...(trial.user ? await asUser(environment, trial.user) : NOBODY),
    ...(trial.roles ? { roles: trial.roles } : {}),
  };
  const text = trial.rule ?? ruleInForce(shape, trial);
  const rule = readRule(shapes, shape, text);
  if ('broken' in rule) throw new Problem('malformed-filter', `${rule.broken}.`);
  const record = await subject(parts, records, environment, collection, trial.record, author);
  const related = rule.paths.length > 0 ? await loadRelated(shape.db, shapes, shape, record, rule.paths, 'team') : undefined;
  const explained = explainFilter(rule.tree, scopeOf(shapes, shape, true), record, askingOf(author, parts.now()), related);
  return { allowed: explained.result === true, rule: text, explained };
}

/** A field without a rule of its own goes by those of the collection. */
function ruleInForce({ name, fields, rules }: CollectionShape, { action, field = '' }: Trial): string {
  if (action !== 'see' && action !== 'set') return rules[action];
  const tried = fields.get(field);
  if (!tried)
    throw new Problem('invalid-input', `\`${name}\` has no field \`${field}\`${nearest(field, fields.keys()) || '.'}`, {
      fields: [{ path: 'body.field', problem: 'Name the field to see or set.', expected: `one of: ${[...fields.keys()].join(', ')}` }],
    });
  return action === 'see' ? (tried.seenBy ?? rules.read) : (tried.setBy ?? rules.update);
}

/** The record as it is, or as it would be after it was created by this user. */
async function subject(
  parts: Parts,
  records: Records,
  environment: Environment,
  collection: string,
  given: string | JsonObject,
  author: Author,
): Promise<JsonObject> {
  const { shape } = await records.known(environment, collection);
  if (typeof given === 'string') {
    const row = await records.row(shape.db, shape, given);
    if (!row) throw missing(collection, given, { told: true, userId: null });
    return presentRow(shape, row, null, true);
  }
  const { id: _, ownerId = author.userId, ...values } = given;
  const check = checkFields(collection, shape.fields, values, {
    mode: environment.mode,
    extent: 'part',
    now: parts.now(),
    withHidden: true,
  });
  return newRecord(shape, { id: 'new', ownerId: ownerId as string | null, values: check.values }, new Date(parts.now()));
}
