/** Audit entries as a file, oldest first, page by page. */
import { once } from 'node:events';
import type { AuditEntry } from '@orchard/contract';
import { stringify } from 'csv-stringify/sync';
import type { Response } from 'express';
import type { ListPart } from '../../platform/database/listing.js';
import type { Platform } from '../../platform/platform.js';
import { listEntries } from './entryList.js';

const PAGE = 500;
const COLUMNS = [
  'id',
  'at',
  'actorKind',
  'actor',
  'actorName',
  'app',
  'environment',
  'action',
  'kind',
  'subject',
  'outcome',
  'before',
  'after',
  'address',
  'request',
  'database',
  'number',
];

const documentIn = (document: unknown): string => (document === null ? '' : JSON.stringify(document));
const inCsv = (entries: readonly AuditEntry[]): string =>
  stringify(
    entries.map(({ actor, before, after, ...entry }) => ({
      ...entry,
      actorKind: actor.kind,
      actor: actor.id,
      actorName: actor.name,
      before: documentIn(before),
      after: documentIn(after),
    })),
    // A cell that begins like a formula would run in a spreadsheet. RFC 4180 section 2: lines end with CRLF.
    { columns: COLUMNS, escape_formulas: true, record_delimiter: '\r\n' },
  );
const inLines = (entries: readonly AuditEntry[]): string => entries.map((entry) => `${JSON.stringify(entry)}\n`).join('');

const FORMATS = {
  csv: { type: 'text/csv; charset=utf-8; header=present', first: `${COLUMNS.join(',')}\r\n`, write: inCsv },
  ndjson: { type: 'application/x-ndjson; charset=utf-8', first: '', write: inLines },
};

export async function exportEntries(
  parts: Platform,
  from: readonly ListPart[],
  { filter, format }: { filter?: string | undefined; format: keyof typeof FORMATS },
  response: Response,
): Promise<void> {
  const { type, first, write } = FORMATS[format];
  const request = { filter, sort: 'at,id', limit: PAGE };
  // A filter that cannot be read is a problem response, before the file begins.
  let page = await listEntries(parts, from, request);
  response.writeHead(200, { 'content-type': type, 'content-disposition': `attachment; filename="audit.${format}"` });
  response.write(first);
  for (;;) {
    const isFull = !response.write(write(page.items));
    if (response.destroyed || !page.next) break;
    if (isFull) await Promise.race([once(response, 'drain'), once(response, 'close')]);
    page = await listEntries(parts, from, { ...request, cursor: page.next });
  }
  response.end();
}
