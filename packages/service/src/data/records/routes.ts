import { operations, type OrchardRecord, Problem } from '@orchard/contract';
import { hasFieldChanges, isOnlySums } from '@orchard/core';
import { originOf } from '../../platform/audit/audit.js';
import { answerOnce, idempotencyKey } from '../../platform/http/idempotency.js';
import { type Answer, bind, bindBoth, type Call, environmentOf, type Route } from '../../platform/call.js';
import { EventStream } from '../../platform/live/eventStream.js';
import type { Statements } from '../../platform/database/connection.js';
import type { Parts } from './parts.js';
import { Batches } from './batch.js';
import { History } from './historyStore.js';
import { RecordLists } from './listStore.js';
import { checkLive, readLastEvent, streamRecords } from './liveRecords.js';
import { type RecordScope, Records } from './records.js';
import { Summaries } from './summaryStore.js';
import { tryRule } from './tryRule.js';
import { authorOf } from './author.js';
import type { Expected, RecordListRequest, RecordPage, StoredRecord, Summary, SummaryRequest } from './forms.js';

/**
 * Records, for apps and servers (access rules decide; a server key needs only its scope) and for members (their role
 * decides).
 */
export function recordRoutes(parts: Parts): Route[] {
  return [
    ...bindReads(parts, operations.records),
    ...bindWrites(parts, operations.records),
    ...bindLive(parts, operations.records),
    ...bindBatch(parts),
  ];
}
export function managedRecordRoutes(parts: Parts): Route[] {
  const managed = operations.managedRecords as unknown as typeof operations.records;
  const records = new Records(parts);
  const { tryRule: trial } = operations.collections;
  return [
    ...bindReads(parts, managed),
    ...bindWrites(parts, managed),
    ...bindLive(parts, managed),
    bind(trial, async (call) => ({ body: await tryRule(parts, records, environmentOf(call), call.params.collection, call.body) })),
  ];
}

type CollectionCall = Pick<Call, 'environment' | 'holder' | 'user' | 'member' | 'spans' | 'startedNs'> & { params: { collection: string } };
/** The records of a name that is no collection of the environment. */
const elsewhere = (parts: Parts, call: Pick<CollectionCall, 'environment' | 'params'>) =>
  parts.recordPorts.elsewhere(environmentOf(call), call.params.collection);

/** Writes need fields that are created outside of their transaction, so they write their entries themselves. */
const OWN = { as: 'own' } as const;
type Own = typeof operations.records;
const scopeOf = (call: Call): RecordScope => ({
  environment: environmentOf(call),
  collection: (call.params as { collection: string }).collection,
  author: authorOf(call),
});

function bindReads(parts: Parts, own: Own): Route[] {
  const records = new Records(parts);
  const lists = new RecordLists(parts, records);
  const summaries = new Summaries(parts, records);
  const history = new History(records);
  const listOf = async (call: CollectionCall, request: RecordListRequest): Promise<RecordPage> => {
    const outside = await elsewhere(parts, call);
    return outside
      ? outside.list(request, authorOf(call))
      : lists.list(environmentOf(call), call.params.collection, request, authorOf(call));
  };
  const summaryOf = async (call: CollectionCall, request: SummaryRequest): Promise<Summary> => {
    const outside = await elsewhere(parts, call);
    return outside
      ? outside.summarise(request, authorOf(call))
      : summaries.summarise(environmentOf(call), call.params.collection, request, authorOf(call));
  };
  return [
    bind(own.read, async (call) => {
      const { collection, id } = call.params;
      const outside = await elsewhere(parts, call);
      const record = outside
        ? await outside.read(id, authorOf(call), call.query)
        : await lists.read(environmentOf(call), collection, id, authorOf(call), call.query);
      // RFC 9110 section 13.1.2: an If-None-Match that names the current version is answered 304.
      if (call.headers['if-none-match'] === etag(record.version) && !call.query.include)
        return { body: record as never, status: 304, headers: { ETag: etag(record.version) } };
      return withEtag(record);
    }),
    bind(own.list, async (call) => {
      const list = await listOf(call, call.query);
      return { body: list as never, headers: nextLink(call.request.originalUrl, list.next) };
    }),
    bind(own.summary, async (call) => ({
      body: await summaryOf(call, call.query),
    })),
    bind(own.query, async (call) => ({
      body: (await listOf(call, call.body)) as never,
    })),
    bind(own.querySummary, async (call) => ({
      body: await summaryOf(call, call.body),
    })),
    bind(own.history, async (call) => {
      (await elsewhere(parts, call))?.refuse('its former versions are not kept here');
      return { body: await history.versions(environmentOf(call), call.params.collection, call.params.id, call.query.before) };
    }),
    bind(
      own.restore,
      async (call) => {
        const { collection, id } = call.params;
        const also = (on: Statements, { version }: StoredRecord) => addEntry(parts, call, on, { id, version });
        return withEtag(
          await history.restore(environmentOf(call), collection, id, call.body.entry, authorOf(call), call.member ? also : null),
        );
      },
      OWN,
    ),
  ];
}

function writer(parts: Parts, records: Records) {
  /** A single statement if that is enough; a transaction if several writes must succeed together. */
  return async <Body>(call: Call, transaction: boolean, work: (on: Statements) => Promise<Answer<Body>>): Promise<Answer<Body>> => {
    const key = idempotencyKey(call);
    const audited = call.member ? (on: Statements) => withEntry(parts, call, on, work) : work;
    const once = key === null ? audited : (on: Statements) => answerOnce(on, call, key, new Date(parts.now()), () => audited(on));
    // A header of our own: HTTP's Warning is about caches, and obsolete (RFC 9111 section 5.5).
    const told = (notice: string) => call.response.appendHeader('Orchard-Notice', notice);
    return records.attempt(environmentOf(call), transaction || key !== null || call.member !== null, once, told);
  };
}

/** Actions on several collections; for members, too. */
function bindBatch(parts: Parts): Route[] {
  const records = new Records(parts);
  const batches = new Batches(parts, records);
  return bindBoth(
    operations.batches.app,
    operations.batches.managed,
    (call) =>
      writer(parts, records)(call as Call, true, async (on) => ({
        body: { results: await batches.across(on, { environment: environmentOf(call), author: authorOf(call) }, call.body.actions) },
      })),
    OWN,
  );
}

function bindWrites(parts: Parts, own: Own): Route[] {
  const records = new Records(parts);
  const batches = new Batches(parts, records);
  const write = writer(parts, records);
  return [
    bind(
      own.create,
      (call) =>
        write(call, false, async (on) => {
          const outside = await elsewhere(parts, call);
          const record = outside ? await outside.create(call.body, authorOf(call)) : await records.create(on, scopeOf(call), call.body);
          return withEtag(record, 201, { Location: `${call.request.originalUrl.split('?')[0]}/${record.id}` });
        }),
      OWN,
    ),
    bind(
      own.put,
      (call) =>
        write(call, false, async (on) => {
          const outside = await elsewhere(parts, call);
          const { record, created } = outside
            ? await outside.put(call.params.id, call.body, expectedOf(call), authorOf(call))
            : await records.put(on, scopeOf(call), call.params.id, call.body, expectedOf(call));
          return withEtag(record, created ? 201 : 200);
        }),
      OWN,
    ),
    bind(
      own.patch,
      (call) =>
        // What depends on the record as it stands is changed under a lock; sums alone are one statement, where no rule is asked.
        write(call, hasFieldChanges(call.body) && !(isOnlySums(call.body) && authorOf(call).trusted), async (on) => {
          const outside = await elsewhere(parts, call);
          return withEtag(
            outside
              ? await outside.patch(call.params.id, call.body, expectedOf(call), authorOf(call))
              : await records.patch(on, scopeOf(call), call.params.id, call.body, expectedOf(call)),
          );
        }),
      OWN,
    ),
    bind(
      own.remove,
      async (call) =>
        write(call, await records.isReferredTo(environmentOf(call), call.params.collection), async (on) => {
          const outside = await elsewhere(parts, call);
          if (outside) await outside.remove(call.params.id, expectedOf(call), authorOf(call));
          else await records.remove(on, scopeOf(call), call.params.id, expectedOf(call));
          return { body: undefined };
        }),
      OWN,
    ),
    bind(
      own.batch,
      (call) =>
        write(call, true, async (on) => {
          (await elsewhere(parts, call))?.refuse('it takes no part in batches; write its records one by one');
          return { body: { results: await batches.run(on, scopeOf(call), call.body.actions, call.body.together) } };
        }),
      OWN,
    ),
  ];
}

function bindLive(parts: Parts, own: Own): Route[] {
  const stream = async (call: Call, watched: { filter?: string | undefined; id?: string }) => {
    const { environment, collection, author } = scopeOf(call);
    const outside = await parts.recordPorts.elsewhere(environment, collection);
    if (outside) {
      const start = await outside.live(author, watched);
      await start(new EventStream(call, parts));
      return 'streaming' as const;
    }
    const lastEvent = readLastEvent(call.headers['last-event-id']);
    if (!watched.id) await checkLive(parts, environment, collection, author, watched.filter);
    // Only in an open environment may the collection of a watched record still be created.
    else if (environment.mode === 'closed') await parts.catalogue.get(environment, collection);
    const events = new EventStream(call, parts);
    await streamRecords(parts, environment, collection, author, events, watched, lastEvent);
    return 'streaming' as const;
  };
  return [
    bind(own.live, (call) => stream(call, { filter: call.query.filter })),
    bind(own.queryLive, (call) => stream(call, { filter: call.body.filter })),
    bind(own.liveOne, (call) => stream(call, { id: call.params.id })),
  ];
}

/** A member's write, with its entry. */
async function withEntry<Body>(
  parts: Parts,
  call: Call,
  on: Statements,
  work: (on: Statements) => Promise<Answer<Body>>,
): Promise<Answer<Body>> {
  const answer = await work(on);
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

const etag = (version: number) => `"${version}"`;

function withEtag(record: StoredRecord, status?: number, headers: Record<string, string> = {}): Answer<OrchardRecord> {
  return { body: record as never, headers: { ETag: etag(record.version), ...headers }, ...(status ? { status } : {}) };
}

/** RFC 9110 sections 13.1.1 and 13.1.2: `If-Match: "3"`, `If-Match: *`, `If-None-Match: *`. */
function expectedOf(call: Pick<Call, 'headers'>): Expected {
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

/** RFC 8288: the next page, as a link. */
function nextLink(url: string, next: string | undefined): Record<string, string> {
  if (!next) return {};
  const [path, query] = url.split('?');
  const parameters = new URLSearchParams(query);
  parameters.set('cursor', next);
  return { Link: `<${path}?${parameters}>; rel="next"` };
}
