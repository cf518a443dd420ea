/** Import and export of files, with a progress bar on a terminal. */
import { closeSync, createReadStream, createWriteStream, openSync, statSync, writeSync } from 'node:fs';
import { createInterface } from 'node:readline';
import { Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { IMPORT_FORMATS, type ImportReport, operations, Problem, type ProblemDocument } from '@orchard/contract';
import type progress from 'cli-progress';
import { CommandError, type workspace } from './context.js';
import { note } from './output.js';
import { isBarShown, newBar } from './progressBar.js';
import { surroundings } from './surroundings.js';

type Place = ReturnType<typeof workspace>;
type Format = keyof typeof IMPORT_FORMATS;
type Importing = {
  collection: string;
  file: string;
  format: Format;
  rejects?: string | undefined;
  query: { strict?: boolean | undefined; check?: boolean | undefined; key?: string | undefined; columns?: string | undefined };
};
type Line = { stored?: number; rejected?: number; reject?: object; report?: ImportReport; problem?: ProblemDocument };

const BAR = ' {bar} {percentage} %  {rows} rows  {rate}/s  {left} left';

/** Rows a second and time left, from the bytes transferred. */
class Meter {
  readonly #bar: progress.SingleBar | null;
  readonly #startedMs = performance.now();
  bytes = 0;
  rows = 0;

  constructor(
    private readonly total: number,
    shown: boolean,
  ) {
    this.#bar = shown && total > 0 ? newBar(BAR) : null;
    this.#bar?.start(total, 0, { rows: '0', rate: '0', left: '…' });
  }

  get seconds(): number {
    return (performance.now() - this.#startedMs) / 1000;
  }

  get rate(): number {
    return Math.round(this.rows / Math.max(this.seconds, 0.001));
  }

  show(): void {
    const left = this.bytes > 0 ? Math.max(0, (this.seconds * (this.total - this.bytes)) / this.bytes) : 0;
    const time = left > 90 ? `${Math.round(left / 60)} min` : `${Math.ceil(left)} s`;
    this.#bar?.update(Math.min(this.bytes, this.total), {
      rows: this.rows.toLocaleString('en'),
      rate: this.rate.toLocaleString('en'),
      left: time,
    });
  }

  stop(): void {
    this.#bar?.stop();
  }

  counting(): Transform {
    return new Transform({
      transform: (chunk: Buffer, _encoding, done) => {
        this.bytes += chunk.length;
        this.show();
        done(null, chunk);
      },
    });
  }
}

function sizeOf(file: string): number {
  if (file === '-') return 0;
  try {
    return statSync(file).size;
  } catch {
    throw new CommandError(`There is no file ${file}.`, 2);
  }
}

/** Sends a file, and writes rejected rows to a file beside it. */
export async function importFile(
  { client, params, options }: Place,
  { collection, file, format, rejects, query }: Importing,
): Promise<ImportReport & { rejectsFile?: string }> {
  const meter = new Meter(sizeOf(file), isBarShown(options));
  const source = file === '-' ? surroundings().stdin : createReadStream(file);
  const rejectsFile = rejects ?? (file === '-' ? undefined : `${file}.rejects.ndjson`);
  let out: number | null = null;
  try {
    const reply = await client.open(operations.collections.importRecords, {
      params: { ...params, collection },
      query: {
        format,
        progress: 'true' as never,
        ...(query.strict ? { strict: 'true' as never } : {}),
        ...(query.check ? { check: 'true' as never } : {}),
        ...(query.columns ? { columns: query.columns } : {}),
        ...(query.key ? { key: query.key } : {}),
      },
      headers: { 'content-type': IMPORT_FORMATS[format] },
      raw: Readable.toWeb(source.pipe(meter.counting())) as never,
    });
    for await (const text of createInterface({ input: Readable.fromWeb(reply.body as never) })) {
      const line = JSON.parse(text) as Line;
      if (line.problem) throw Problem.from(line.problem);
      if (line.reject && rejectsFile) {
        if (rejectsFile === '-') surroundings().stdout.write(`${JSON.stringify(line.reject)}\n`);
        else {
          out ??= openSync(rejectsFile, 'w');
          // The command says where the rejected rows are, so they have to be there when it ends.
          writeSync(out, `${JSON.stringify(line.reject)}\n`);
        }
      }
      if (line.stored !== undefined) meter.rows = line.stored;
      meter.show();
      if (line.report) {
        meter.stop();
        const { stored, delimiter, byKey } = line.report;
        if (delimiter) note(`The detected delimiter is ${delimiter === '\t' ? 'a tab' : `\`${delimiter}\``}.`, options);
        note(
          query.check
            ? `${stored.toLocaleString('en')} rows fit. Nothing was stored.`
            : `Stored ${stored.toLocaleString('en')} records in ${meter.seconds.toFixed(1)} s.`,
          options,
        );
        if (byKey) note(`By key: ${byKey.created} new, ${byKey.changed} changed, ${byKey.same} as they were.`, options);
        return { ...line.report, ...(out !== null && rejectsFile ? { rejectsFile } : {}) };
      }
    }
    throw new CommandError('The service ended before the import did. Rows stored so far stay; check with `orchard record list`.', 1);
  } finally {
    meter.stop();
    if (out !== null) closeSync(out);
  }
}

type Exporting = { collection: string; file?: string | undefined; query: { format: Format; filter?: string; fields?: string } };

export async function exportFile({ client, params, options }: Place, { collection, file, query }: Exporting): Promise<void> {
  const { records } = await client.call(operations.collections.read, { params: { ...params, collection } });
  const meter = new Meter(records, Boolean(surroundings().stderr.isTTY) && file !== undefined && !options.quiet);
  const reply = await client.open(operations.collections.exportRecords, { params: { ...params, collection }, query });
  const counted = new Transform({
    transform: (chunk: Buffer, _encoding, done) => {
      for (const byte of chunk) if (byte === 10) meter.rows++;
      meter.bytes = meter.rows;
      meter.show();
      done(null, chunk);
    },
  });
  try {
    if (file) await pipeline(Readable.fromWeb(reply.body as never), counted, createWriteStream(file));
    else await pipeline(Readable.fromWeb(reply.body as never), surroundings().stdout, { end: false });
  } finally {
    meter.stop();
  }
  if (file) note(`Wrote ${file} in ${meter.seconds.toFixed(1)} s.`, options);
}
