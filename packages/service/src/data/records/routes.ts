import { operations, type OrchardRecord } from '@orchard/contract';
import { type Answer, bind, bindBoth, type Call, environmentOf, type Route } from '../../platform/call.js';
import { EventStream } from '../../platform/live/eventStream.js';
import type { Parts } from './parts.js';
import { Batches } from './batch.js';
import { History } from './historyStore.js';
import { RecordLists } from './listStore.js';
import { checkLive, readLastEvent, streamRecords } from './liveRecords.js';
import { type CollectionCall, narrowed } from './narrowing.js';
import type { AskedWrite } from './ports.js';
import { type RecordScope, Records } from './records.js';
import { Summaries } from './summaryStore.js';
import { tryRule } from './tryRule.js';
import { askedOf, storing, writer, written } from './writing.js';
import { authorOf } from './author.js';
import type { ReadRequest, RecordListRequest, RecordPage, StoredRecord, Summary, SummaryRequest } from './forms.js';

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
    const author = authorOf(call);
    if (outside) return outside.list(request, author);
    const { environment, query } = await narrowed(parts, call, 'list', request);
    const page = await lists.list(environment, call.params.collection, query, author);
    const { collection } = call.params;
    return {
      ...page,
      items: await parts.recordPorts.hooks.reshape(environment, author, { collection, action: 'list', items: page.items }),
    };
  };
  const summaryOf = async (call: CollectionCall, request: SummaryRequest): Promise<Summary> => {
    const outside = await elsewhere(parts, call);
    if (outside) return outside.summarise(request, authorOf(call));
    const { environment } = await narrowed(parts, call, 'list', { ...request, limit: undefined });
    return summaries.summarise(environment, call.params.collection, request, authorOf(call));
  };
  const readOf = async (call: CollectionCall, id: string, request: ReadRequest): Promise<StoredRecord> => {
    const outside = await elsewhere(parts, call);
    const author = authorOf(call);
    if (outside) return outside.read(id, author, request);
    const { collection } = call.params;
    const { environment } = await narrowed(parts, call, 'read', { include: request.include }, id);
    const record = await lists.read(environment, collection, id, author, request);
    return (await parts.recordPorts.hooks.reshape(environment, author, { collection, action: 'read', items: [record] }))[0] as StoredRecord;
  };
  return [
    bind(own.read, async (call) => {
      const record = await readOf(call, call.params.id, call.query);
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
        const values = await history.valuesOf(environmentOf(call), collection, id, call.body.entry);
        const asked: AskedWrite = { action: 'put', collection, id, record: values, expected: {} };
        const { record } = await writer(parts, records)(call as Call, asked, null, async (_on, write) => written(await write()));
        return withEtag(record);
      },
      OWN,
    ),
  ];
}

/** Actions on several collections; for members, too. */
function bindBatch(parts: Parts): Route[] {
  const records = new Records(parts);
  const batches = new Batches(parts, records);
  return bindBoth(
    operations.batches.app,
    operations.batches.managed,
    async (call) => {
      const { once, told, before } = storing(parts, call as Call);
      const repeated = await before(call.body.actions.map(({ collection }) => collection));
      if (repeated) return repeated as never;
      const environment = environmentOf(call);
      const placed = await batches.across({ environment, author: authorOf(call) }, call.body.actions);
      return records.attempt(
        environment,
        true,
        (on) => once(on, async () => ({ body: { results: await batches.run(on, placed, true) } })),
        told,
      );
    },
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
      async (call) =>
        write(call, askedOf(call, 'create', call.body), await elsewhere(parts, call), async (_on, store) => {
          const { record } = written(await store());
          return withEtag(record, 201, { Location: `${call.request.originalUrl.split('?')[0]}/${record.id}` });
        }),
      OWN,
    ),
    bind(
      own.put,
      async (call) =>
        write(call, askedOf(call, 'put', call.body), await elsewhere(parts, call), async (_on, store) => {
          const { record, created } = written(await store());
          return withEtag(record, created ? 201 : 200);
        }),
      OWN,
    ),
    bind(
      own.patch,
      async (call) =>
        write(call, askedOf(call, 'change', call.body), await elsewhere(parts, call), async (_on, store) =>
          withEtag(written(await store()).record),
        ),
      OWN,
    ),
    bind(
      own.remove,
      async (call) =>
        write(call, askedOf(call, 'remove'), await elsewhere(parts, call), async (_on, store) => {
          await store();
          return { body: undefined };
        }),
      OWN,
    ),
    bind(
      own.batch,
      async (call) => {
        (await elsewhere(parts, call))?.refuse('it takes no part in batches; write its records one by one');
        const { once, told, before } = storing(parts, call);
        const repeated = await before([call.params.collection]);
        if (repeated) return repeated as never;
        const { actions, together } = call.body;
        const placed = await batches.one(scopeOf(call), actions);
        return records.attempt(
          environmentOf(call),
          true,
          (on) => once(on, async () => ({ body: { results: await batches.run(on, placed, together) } })),
          told,
        );
      },
      OWN,
    ),
  ];
}

function bindLive(parts: Parts, own: Own): Route[] {
  const stream = async (call: Call, watched: { filter?: string | undefined; id?: string }) => {
    const { collection, author } = scopeOf(call);
    const outside = await elsewhere(parts, call as never);
    if (outside) {
      const start = await outside.live(author, watched);
      await start(new EventStream(call, parts));
      return 'streaming' as const;
    }
    const lastEvent = readLastEvent(call.headers['last-event-id']);
    const { environment } = await narrowed(parts, call as never, 'list', { filter: watched.filter });
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

const etag = (version: number) => `"${version}"`;

function withEtag(record: StoredRecord, status?: number, headers: Record<string, string> = {}): Answer<OrchardRecord> {
  return { body: record as never, headers: { ETag: etag(record.version), ...headers }, ...(status ? { status } : {}) };
}

/** RFC 8288: the next page, as a link. */
function nextLink(url: string, next: string | undefined): Record<string, string> {
  if (!next) return {};
  const [path, query] = url.split('?');
  const parameters = new URLSearchParams(query);
  parameters.set('cursor', next);
  return { Link: `<${path}?${parameters}>; rel="next"` };
}
