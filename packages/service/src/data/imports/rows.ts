/** Reads the rows of a file as they arrive: CSV (RFC 4180), NDJSON, and GeoJSON (RFC 7946). */
import type { Readable } from 'node:stream';
import { StringDecoder } from 'node:string_decoder';
import { countCells, delimiterOf, type Fields, isPlainObject, type Json, jsonFault, type JsonObject } from '@orchard/core';
import { JSONParser } from '@streamparser/json';
import { parse as parseCsv } from 'csv-parse';

export type Format = 'csv' | 'ndjson' | 'geojson';
/** One row: its values, or why there are none. `text` is the row as it came. */
export type Row = { line: number; values: JsonObject; text: () => string; problem?: string };

/** Called with the header of a CSV file before a row is read; an error it throws ends the reading. */
export type OnHeader = (header: { delimiter: string; columns: number }) => void;

/** Longest line that is read; a longer one is rejected, and the rest of it skipped. */
const MAX_LINE = 2_000_000;

export function readRows(body: Readable, format: Format, fields: Fields, onHeader: OnHeader): AsyncGenerator<Row> {
  switch (format) {
    case 'csv':
      return csvRows(body, onHeader);
    case 'ndjson':
      return ndjsonRows(body);
    case 'geojson':
      return geojsonRows(body, fields);
  }
}

/** Lines of UTF-8 text, in chunks as they come. */
async function* lineChunks(body: Readable): AsyncGenerator<string[]> {
  const decoder = new StringDecoder('utf8');
  let rest = '';
  for await (const chunk of body) {
    const lines = (rest + decoder.write(chunk as Buffer)).split('\n');
    rest = lines.pop() ?? '';
    if (rest.length > MAX_LINE) rest = rest.slice(0, MAX_LINE);
    yield lines;
  }
  rest += decoder.end();
  if (rest) yield [rest];
}

async function* ndjsonRows(body: Readable): AsyncGenerator<Row> {
  let line = 0;
  for await (const lines of lineChunks(body)) {
    for (const text of lines) {
      line++;
      if (text.trim() !== '') yield ndjsonRow(line === 1 ? text.replace(/^\ufeff/, '') : text, line);
    }
  }
}

function ndjsonRow(text: string, line: number): Row {
  const whole = () => text;
  try {
    const value = JSON.parse(text) as Json;
    const fault = jsonFault(value);
    if (fault) return { line, values: {}, text: whole, problem: fault };
    return isPlainObject(value)
      ? { line, values: value, text: whole }
      : { line, values: {}, text: whole, problem: 'The line is not a JSON object.' };
  } catch (error) {
    return { line, values: {}, text: whole, problem: `The line cannot be read as JSON: ${(error as Error).message}.` };
  }
}

type CsvRecord = { record: Record<string, string>; info: { lines: number; error?: Error } };

/** The first line of a file, put back for the reader of the whole file. */
async function peekLine(body: Readable): Promise<string> {
  const chunks: Buffer[] = [];
  for (let line = ''; !line.includes('\n') && line.length < MAX_LINE; line = Buffer.concat(chunks).toString()) {
    const chunk = body.read() as Buffer | null;
    if (chunk) chunks.push(chunk);
    else if (body.readableEnded || body.destroyed) break;
    else
      await new Promise<void>((resolve) => {
        const go = () => {
          for (const event of ['readable', 'end', 'close', 'error']) body.off(event, go);
          resolve();
        };
        for (const event of ['readable', 'end', 'close', 'error']) body.once(event, go);
      });
  }
  const whole = Buffer.concat(chunks);
  if (whole.length > 0) body.unshift(whole);
  return whole.toString().split('\n', 1)[0] ?? '';
}

async function* csvRows(body: Readable, onHeader: OnHeader): AsyncGenerator<Row> {
  let width = 0;
  const header = await peekLine(body);
  const delimiter = delimiterOf(header);
  onHeader({ delimiter, columns: countCells(header, delimiter) });
  const parser = body.pipe(
    parseCsv({
      delimiter,
      bom: true,
      info: true,
      columns: (header: string[]) => {
        width = header.length;
        return header.map((name) => name.trim());
      },
      skip_empty_lines: true,
      relax_column_count: true,
      max_record_size: MAX_LINE,
    }),
  );
  body.once('error', (error) => parser.destroy(error));
  try {
    for await (const { record, info } of parser as AsyncIterable<CsvRecord>) {
      const cells = Object.keys(record).length;
      const problem =
        info.error || cells < width
          ? `The line has ${cells < width ? `${cells} cells` : 'more cells than'}; the header has ${width}.`.replace(
              'more cells than; the header has',
              'more cells than the header, which has',
            )
          : undefined;
      yield { line: info.lines, values: record, text: () => JSON.stringify(record), ...(problem ? { problem } : {}) };
    }
  } catch (error) {
    // An unclosed quote swallows the rest of the file; rows before it are stored.
    yield {
      line: parser.info.lines,
      values: {},
      text: () => '',
      problem: `The CSV cannot be read from here on: ${(error as Error).message}.`,
    };
  }
}

async function* geojsonRows(body: Readable, fields: Fields): AsyncGenerator<Row> {
  const place = [...fields].find(([, { type }]) => type === 'place')?.[0] ?? 'position';
  const ready: Row[] = [];
  let number = 0;
  let problem: string | undefined;
  const parser = new JSONParser({ paths: ['$.features.*'], keepStack: false });
  parser.onValue = ({ value }) => {
    ready.push(featureRow(value as Json, ++number, place));
  };
  parser.onError = (error) => {
    problem ??= `The file cannot be read as JSON from here on: ${error.message}.`;
  };
  for await (const chunk of body) {
    if (!problem) {
      try {
        parser.write(chunk as Buffer);
      } catch (error) {
        problem ??= `The file cannot be read as JSON from here on: ${(error as Error).message}.`;
      }
    }
    yield* ready.splice(0);
  }
  if (!problem && !parser.isEnded) problem = 'The file ends in the middle of its JSON.';
  if (!problem && number === 0) problem = 'The file has no `features`. Expected a GeoJSON FeatureCollection.';
  if (problem) yield { line: number + 1, values: {}, text: () => '', problem };
}

/** A feature's number serves as the line number. */
function featureRow(feature: Json, line: number, place: string): Row {
  const text = () => JSON.stringify(feature);
  const fault = jsonFault(feature);
  if (fault) return { line, values: {}, text: () => '', problem: fault };
  if (!isPlainObject(feature) || feature.type !== 'Feature') return { line, values: {}, text, problem: 'It is not a GeoJSON Feature.' };
  const { id, properties, geometry } = feature;
  const values: JsonObject = { ...(isPlainObject(properties) ? properties : {}) };
  if (geometry !== null && geometry !== undefined) {
    if (!isPlainObject(geometry) || geometry.type !== 'Point')
      return {
        line,
        values: {},
        text,
        problem: `Its geometry is ${isPlainObject(geometry) ? String(geometry.type) : 'nothing'}; places are Points.`,
      };
    values[place] = geometry;
  }
  if (id !== undefined && id !== null) values.id = String(id);
  return { line, values, text };
}
