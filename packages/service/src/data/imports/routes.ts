import { IMPORT_FORMATS, operations, Problem } from '@orchard/contract';
import { bind, type Call, environmentOf, type Route } from '../../platform/call.js';
import { RecordLists, readFields } from '../records/listStore.js';
import { Records } from '../records/records.js';
import { exportRecords } from './exporting.js';
import { Importer } from './importing.js';
import { readMapping } from './mapping.js';
import type { ImportProgress } from './report.js';
import type { Parts } from './parts.js';
import { authorOf } from '../records/author.js';

export function importRoutes(parts: Parts): Route[] {
  const own = operations.collections;
  const records = new Records(parts);
  const lists = new RecordLists(parts, records);
  const importer = new Importer(parts, records);
  return [
    bind(
      own.importRecords,
      async (call) => {
        const { format, strict, check, columns, key, progress } = call.query;
        const place = { environment: environmentOf(call), collection: call.params.collection, author: authorOf(call) };
        const options = { format, strict, check, key, mapping: readMapping(columns) };
        if (!progress) return { body: await importer.run(place, call.request, options) };
        return importWithProgress(call, (told) => importer.run(place, call.request, options, told));
      },
      { as: 'apart' },
    ),
    bind(own.exportRecords, async (call) => {
      const { format, filter, fields } = call.query;
      const environment = environmentOf(call);
      const shape = await parts.catalogue.get(environment, call.params.collection);
      readFields(shape, fields, true);
      // An invalid filter is a problem response, before the file begins.
      await lists.list(environment, shape.name, { filter, limit: 1 }, authorOf(call));
      call.response.writeHead(200, {
        'content-type': `${IMPORT_FORMATS[format]}; charset=utf-8`,
        'content-disposition': `attachment; filename="${shape.name}.${format}"`,
      });
      await exportRecords(lists, environment, shape, { format, filter, fields }, authorOf(call), call.response);
      return 'streaming';
    }),
  ];
}

/** Responds with NDJSON during the import; a problem that ends it is the last line. */
async function importWithProgress(call: Call, run: (progress: ImportProgress) => Promise<unknown>): Promise<'streaming'> {
  const line = (value: object) => call.response.write(`${JSON.stringify(value)}\n`);
  call.response.writeHead(200, { 'content-type': 'application/x-ndjson; charset=utf-8', 'cache-control': 'no-store' });
  try {
    const report = await run({ chunk: (stored, rejected) => line({ stored, rejected }), reject: (reject) => line({ reject }) });
    line({ report });
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    line({ problem: error.toDocument(call.id) });
  }
  call.response.end();
  return 'streaming';
}
