/** Who reads or writes records. */
import { type Asking, type JsonObject, THE_SERVICE, writeActor } from '@orchard/core';
import { actorOf, type Call, environmentOf, explainsRefusals } from '../../platform/call.js';
import { inSpan } from '../../platform/http/spans.js';

/** What led to a read or write: the recorded call, and how many functions deep it is. */
export type Origin = { request: string | null; trace: string | null; depth: number };

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
  origin?: Origin;
  /** Notes how long rules take, as a step of the call. */
  inRules?: <T>(work: Promise<T>) => Promise<T>;
};

type AuthorCall = Pick<Call, 'holder' | 'user' | 'member' | 'environment' | 'spans' | 'startedNs'> & Partial<Pick<Call, 'id' | 'trace'>>;

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
    origin: { request: call.id ?? null, trace: call.trace?.traceId ?? null, depth: 0 },
    inRules: (work) => inSpan(call, 'rules', process.hrtime.bigint(), work),
  };
}

/** The service itself, where the team said beforehand what is done: no rules apply. */
export const THE_SERVICE_ITSELF: Author = { userId: null, roles: [], fields: {}, trusted: true, told: true, by: writeActor(THE_SERVICE) };

export const askingOf = (author: Author, now: number): Asking => ({
  me: { id: author.userId, roles: author.roles, fields: author.fields },
  now,
});
