/** How calls write records: asked for as one write, stored once, and for members with an entry of the audit. */
import { type operations, Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { originOf } from '../../platform/audit/audit.js';
import { type Answer, type Call, environmentOf } from '../../platform/call.js';
import type { Statements } from '../../platform/database/connection.js';
import { answeredBefore, answerOnce, idempotencyKey } from '../../platform/http/idempotency.js';
import { authorOf } from './author.js';
import type { Expected, StoredRecord } from './forms.js';
import { WriteGate, type Written } from './gate.js';
import type { Parts } from './parts.js';
import type { AskedWrite, RecordsElsewhere } from './ports.js';
import type { Records } from './records.js';
import { writeElsewhere } from './writeElsewhere.js';

type Own = typeof operations.records;

/** A write that left a record. */
export const written = ({ record, created }: Written) => ({ body: record as StoredRecord, record: record as StoredRecord, created });

/** Writes of one record, through the gate or at another server. */
export function writer(parts: Parts, records: Records) {
  const gate = new WriteGate(parts, records);
  /** A single statement if that is enough; a transaction if several writes must succeed together. */
  return async <A extends Answer<unknown>>(
    call: Call,
    asked: AskedWrite,
    outside: RecordsElsewhere | null,
    answer: (on: Statements, write: () => Promise<Written>) => Promise<A>,
  ): Promise<A> => {
    const { once, told, transaction, before } = storing(parts, call);
    const repeated = await before([asked.collection]);
    if (repeated) return repeated as A;
    const environment = environmentOf(call);
    if (outside)
      return records.attempt(environment, transaction, (on) =>
        once(on, () => answer(on, () => writeElsewhere(outside, asked, authorOf(call)))),
      ) as Promise<A>;
    const author = authorOf(call);
    return gate.write({ environment, author }, asked, transaction, (on, write) => once(on, () => answer(on, write)), told) as Promise<A>;
  };
}

/** How the writes of a call are stored: at most once for an Idempotency-Key, and for members with an entry of the audit. */
export function storing(parts: Parts, call: Call) {
  const key = idempotencyKey(call);
  const once = <A extends Answer<unknown>>(on: Statements, work: () => Promise<A>): Promise<A> => {
    const audited = () => (call.member ? withEntry(parts, call, on, work) : work());
    return key === null ? audited() : (answerOnce(on, call, key, new Date(parts.now()), audited) as Promise<A>);
  };
  return {
    once,
    // A header of our own: HTTP's Warning is about caches, and obsolete (RFC 9111 section 5.5).
    told: (notice: string) => void call.response.appendHeader('Orchard-Notice', notice),
    transaction: key !== null || call.member !== null,
    /** The response of an earlier call with the key, where hooks stand on one of the collections: they are not asked again. */
    before: async (collections: readonly string[]) => {
      if (key === null) return null;
      const environment = environmentOf(call);
      for (const collection of new Set(collections))
        if ((await parts.recordPorts.hooks.on(environment, collection)).before) return answeredBefore(environment.db, call, key);
      return null;
    },
  };
}

/** A call as the write that it asks for. @throws {Problem} invalid-input */
export function askedOf(
  call: Call<Own['put']> | Call<Own['create']> | Call<Own['remove']>,
  action: AskedWrite['action'],
  body: JsonObject = {},
): AskedWrite {
  const { collection, id = '' } = call.params as { collection: string; id?: string };
  return { action, collection, id, record: body, expected: action === 'create' ? {} : expectedOf(call) };
}

/** A member's write, with its entry. */
async function withEntry<A extends Answer<unknown>>(parts: Parts, call: Call, on: Statements, work: () => Promise<A>): Promise<A> {
  const answer = await work();
  await addEntry(parts, call, on, (answer.body ?? {}) as { id?: string; version?: number });
  return answer;
}

/** The entry names record and version; what was written stands in the record's history. */
function addEntry(parts: Parts, call: Call, on: Statements, written: { id?: string; version?: number }): Promise<void> {
  const { collection: one, id = written.id } = call.params as { collection?: string; id?: string };
  const done = (call.body as { actions?: { collection?: string }[] } | undefined)?.actions;
  const collection = one ?? [...new Set(done?.map((action) => action.collection))].join(', ');
  const actions = done?.length;
  return parts.audit.append(on, originOf(call), {
    action: call.operation.id,
    kind: 'record',
    subject: [collection, id].filter(Boolean).join('/'),
    after: actions === undefined ? { version: written.version ?? null } : { actions },
  });
}

/** RFC 9110 sections 13.1.1 and 13.1.2: `If-Match: "3"`, `If-Match: *`, `If-None-Match: *`. */
export function expectedOf(call: Pick<Call, 'headers'>): Expected {
  const match = call.headers['if-match'];
  if (call.headers['if-none-match'] === '*') return { absent: true };
  if (!match || match === '*') return {};
  const version = /^"(\d{1,10})"$/.exec(match.trim())?.[1];
  if (!version) {
    throw new Problem('invalid-input', `If-Match must be one version in quotes, such as "3"; got ${match}.`, {
      fields: [{ path: 'headers.If-Match', problem: 'It is not a version.', expected: 'the ETag of the record, such as "3"' }],
    });
  }
  return { version: Number(version) };
}
