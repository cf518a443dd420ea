/** What a file to import appears to hold: its format, delimiter, columns and some of their values. */
import type { IMPORT_FORMATS } from '@orchard/contract';
import { delimiterOf, guessType, inferFieldType, type Json, type JsonObject } from '@orchard/core';
import { parse } from 'csv-parse/browser/esm/sync';
import { bytes } from '../parts/format.js';

type Format = keyof typeof IMPORT_FORMATS;
export type ColumnSample = { name: string; type: string; values: string[] };
const HEAD_BYTES = 256_000;
const SAMPLES = 100;

export const formatOf = (file: File): Format =>
  /\.(geojson|json)$/i.test(file.name) ? 'geojson' : /\.(ndjson|jsonl)$/i.test(file.name) ? 'ndjson' : 'csv';

/** A description of a file: its size, and its delimiter unless that is a comma. */
export async function describeFile(file: File): Promise<string> {
  const size = `${file.name}, ${bytes(file.size)}`;
  if (formatOf(file) !== 'csv') return size;
  const delimiter = delimiterOf(await headerOf(file));
  return delimiter === ',' ? size : `${size}, delimiter ${delimiter === '\t' ? 'tab' : delimiter}`;
}

const headOf = (file: File): Promise<string> => file.slice(0, HEAD_BYTES).text();
const headerOf = async (file: File): Promise<string> => (await headOf(file)).split('\n', 1)[0] ?? '';

/** The columns of a file, read from its start. The service reads GeoJSON files whole. */
export async function sampleOf(file: File, format: Format): Promise<ColumnSample[]> {
  const head = await headOf(file);
  if (format === 'csv') {
    const rows = parse(head, {
      delimiter: delimiterOf(await headerOf(file)),
      columns: true,
      bom: true,
      to: SAMPLES,
      relax_column_count: true,
      relax_quotes: true,
      skip_records_with_error: true,
    }) as Record<string, string>[];
    return Object.keys(rows[0] ?? {}).map((name) => {
      const values = rows.map((row) => row[name] ?? '');
      return { name, type: guessType(values), values: values.filter(Boolean).slice(0, 3) };
    });
  }
  if (format !== 'ndjson') return [];
  const rows = head
    .split('\n')
    .slice(0, SAMPLES)
    .flatMap((line) => {
      try {
        return [JSON.parse(line) as JsonObject];
      } catch {
        return [];
      }
    });
  return [...new Set(rows.flatMap(Object.keys))].map((name) => {
    const values = rows.map((row) => row[name] as Json).filter((value) => value !== undefined && value !== null);
    return {
      name,
      type: (values[0] !== undefined && inferFieldType(values[0])) || 'text',
      values: values.slice(0, 3).map((value) => (typeof value === 'string' ? value : JSON.stringify(value))),
    };
  });
}
