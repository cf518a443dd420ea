/** Streams records to a file, a thousand at a time and with back-pressure. */
import { once } from 'node:events';
import type { Writable } from 'node:stream';
import { type Json, type JsonObject, own } from '@orchard/core';
import { stringify } from 'csv-stringify/sync';
import type { RecordLists } from '../records/listStore.js';
import type { CollectionShape } from '../collections/shape.js';
import { readInPieces } from '../../platform/database/pieces.js';
import type { Environment } from '../../platform/call.js';
import type { Format } from './rows.js';
import type { Author } from '../records/author.js';
import type { RecordPage } from '../records/forms.js';

export type ExportRequest = { format: Format; filter?: string | undefined; fields?: string | undefined };
/** Writes the start, a page, and the end of a file. */
type FileWriter = { begin: string; page: (records: JsonObject[], first: boolean) => string; end: string };

export function exportWriter(format: Format, shape: CollectionShape, names: readonly string[]): FileWriter {
  if (format === 'ndjson')
    return { begin: '', page: (records) => records.map((record) => `${JSON.stringify(record)}\n`).join(''), end: '' };
  if (format === 'csv')
    return {
      begin: stringify([names as string[]]),
      page: (records) => stringify(records.map((record) => names.map((name) => cell(own(record, name))))),
      end: '',
    };
  const place = [...shape.fields].find(([name, { type }]) => type === 'place' && names.includes(name))?.[0];
  const feature = ({ id, ...properties }: JsonObject) => {
    const geometry = place ? (properties[place] ?? null) : null;
    if (place) delete properties[place];
    return JSON.stringify({ type: 'Feature', id, geometry, properties });
  };
  return {
    begin: '{"type":"FeatureCollection","features":[',
    page: (records, first) => `${first || records.length === 0 ? '' : ','}\n${records.map(feature).join(',\n')}`,
    end: '\n]}\n',
  };
}

const cell = (value: Json | undefined): string =>
  value === null || value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value);

/** @returns the number of records written */
export async function exportRecords(
  lists: RecordLists,
  environment: Environment,
  shape: CollectionShape,
  request: ExportRequest,
  author: Author,
  out: Writable,
): Promise<number> {
  const wanted = request.fields ? new Set(request.fields.split(',').map((name) => name.trim())) : null;
  const names = [
    'id',
    ...[...shape.fields.keys()].filter((name) => !wanted || wanted.has(name)),
    ...['createdAt', 'updatedAt', 'version', 'ownerId'].filter((name) => !wanted || wanted.has(name)),
  ];
  const writer = exportWriter(request.format, shape, names);
  const write = async (text: string) => {
    if (!out.write(text) && !out.destroyed) await takenOrGone(out);
  };
  await write(writer.begin);
  let [written, cursor]: [number, string | undefined] = [0, undefined];
  do {
    const after: string | undefined = cursor;
    const page: RecordPage = await readInPieces(1000, (limit) =>
      lists.list(environment, shape.name, { filter: request.filter, fields: request.fields, limit, cursor: after }, author),
    );
    if (page.items.length > 0)
      await write(
        writer.page(
          page.items.map((item) => pick(item, names)),
          written === 0,
        ),
      );
    written += page.items.length;
    cursor = page.next;
  } while (cursor && !out.destroyed);
  out.end(writer.end);
  return written;
}

/** Waits until the reader has taken what was written, or has gone. */
async function takenOrGone(out: Writable): Promise<void> {
  const over = new AbortController();
  try {
    await Promise.race([once(out, 'drain', { signal: over.signal }), once(out, 'close', { signal: over.signal })]);
  } finally {
    over.abort();
  }
}

const pick = (record: JsonObject, names: readonly string[]): JsonObject =>
  Object.fromEntries(names.map((name) => [name, own(record, name) ?? null]));
