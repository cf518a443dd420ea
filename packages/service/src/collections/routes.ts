import { operations, Problem, type Collection, type OrchardRecord } from '@orchard/contract';
import { type AccessRules, type FieldType, OWNER_ONLY } from '@orchard/core';
import { type Answer, bind, type Call, environmentOf, type Route } from '../http/call.js';
import type { Parts } from '../parts.js';
import type { CollectionShape } from './catalogue.js';
import { type Author, type Expected, Records, type StoredRecord } from './records.js';

/** What apps and servers call: with a client key the access rules decide, a server key's scope stands above them. */
export function recordRoutes(parts: Parts): Route[] {
  const author = (call: Pick<Call, 'holder' | 'user'>): Author => ({
    userId: call.user?.id ?? null,
    trusted: call.holder?.key.kind === 'server',
  });
  return bindRecords(new Records(parts), operations.records, author);
}

/** The same for members, whose role decides. */
export function managedRecordRoutes(parts: Parts): Route[] {
  return bindRecords(new Records(parts), operations.managedRecords as unknown as typeof operations.records, () => ({
    userId: null,
    trusted: true,
  }));
}

function bindRecords(records: Records, own: typeof operations.records, author: (call: Pick<Call, 'holder' | 'user'>) => Author): Route[] {
  return [
    bind(own.read, async (call) => {
      const record = await records.read(environmentOf(call), call.params.collection, call.params.id, author(call), call.query.fields);
      // RFC 9110 section 13.1.2: an If-None-Match that names the current version is answered 304.
      if (call.headers['if-none-match'] === etag(record.version))
        return { body: record as never, status: 304, headers: { ETag: etag(record.version) } };
      return withEtag(record);
    }),
    bind(own.list, async (call) => {
      const list = await records.list(environmentOf(call), call.params.collection, call.query, author(call));
      return { body: list as never, headers: nextLink(call.request.originalUrl, list.next) };
    }),
    bind(own.create, async (call) => {
      const record = await records.create(environmentOf(call), call.params.collection, call.body, author(call));
      return withEtag(record, 201, { Location: `${call.request.originalUrl.split('?')[0]}/${record.id}` });
    }),
    bind(own.put, async (call) => {
      const { record, created } = await records.put(
        environmentOf(call),
        call.params.collection,
        call.params.id,
        call.body,
        author(call),
        expectedOf(call),
      );
      return withEtag(record, created ? 201 : 200);
    }),
    bind(own.patch, async (call) =>
      withEtag(await records.patch(environmentOf(call), call.params.collection, call.params.id, call.body, author(call), expectedOf(call))),
    ),
    bind(own.remove, async (call) => {
      await records.remove(environmentOf(call), call.params.collection, call.params.id, author(call), expectedOf(call));
      return { body: undefined };
    }),
  ];
}

export function collectionRoutes(parts: Parts): Route[] {
  const present = (shape: CollectionShape, records: number): Collection => ({
    name: shape.name,
    fields: [...shape.fields].map(([name, type]) => ({ name, type })),
    rules: shape.rules,
    records,
    createdAt: shape.createdAt.toISOString(),
  });
  const answer = async (call: Pick<Call, 'environment'>, shape: CollectionShape) => ({
    body: present(shape, (await parts.catalogue.counts(environmentOf(call), [shape.name])).get(shape.name) ?? 0),
  });
  const typesOf = (fields: { name: string; type: FieldType }[] = []) => new Map(fields.map(({ name, type }) => [name, type]));
  return [
    bind(operations.collections.list, async (call) => {
      const shapes = await parts.catalogue.all(environmentOf(call));
      const counts = await parts.catalogue.counts(
        environmentOf(call),
        shapes.map(({ name }) => name),
      );
      return { body: { items: shapes.map((shape) => present(shape, counts.get(shape.name) ?? 0)) } };
    }),
    bind(operations.collections.create, async (call) => {
      const { name, fields, rules } = call.body;
      if (await parts.catalogue.find(environmentOf(call), name))
        throw new Problem('already-exists', `There is a collection \`${name}\` already.`);
      const shape = await parts.catalogue.extend(environmentOf(call), name, typesOf(fields), [], {
        ...OWNER_ONLY,
        ...rules,
      } as AccessRules);
      return answer(call, shape);
    }),
    bind(operations.collections.patch, async (call) => {
      const environment = environmentOf(call);
      let shape = await parts.catalogue.get(environment, call.params.collection);
      if (call.body.addFields) shape = await parts.catalogue.extend(environment, shape.name, typesOf(call.body.addFields));
      if (call.body.rules)
        shape = await parts.catalogue.changeRules(environment, shape.name, { ...shape.rules, ...call.body.rules } as AccessRules);
      return answer(call, shape);
    }),
  ];
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
    throw new Problem('invalid-input', `If-Match takes one version in quotes, such as "3"; got ${match}.`, {
      fields: [{ path: 'headers.If-Match', problem: 'It is not a version.', expected: 'the ETag of the record, such as "3"' }],
    });
  }
  return { version: Number(version) };
}

/** RFC 8288: the next page, as a link. */
export function nextLink(url: string, next: string | undefined): Record<string, string> {
  if (!next) return {};
  const [path, query] = url.split('?');
  const parameters = new URLSearchParams(query);
  parameters.set('cursor', next);
  return { Link: `<${path}?${parameters}>; rel="next"` };
}
