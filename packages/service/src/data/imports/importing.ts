/** Stores the rows of a file, a thousand at a time; rejected rows are reported and do not stop the rest. */
import { createReadStream, createWriteStream, mkdtempSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { Problem, type ImportReport } from '@orchard/contract';
import { checkFields, type Field, type Fields, fieldNameProblem, grouped, MAX_FIELDS } from '@orchard/core';
import { unknownCollection } from '../collections/catalogue.js';
import { WriteGate } from '../records/gate.js';
import type { AskedWrite } from '../records/ports.js';
import type { Records } from '../records/records.js';
import type { CollectionShape, RecordRow } from '../collections/shape.js';
import { tellWidened } from '../collections/widening.js';
import { demandSlowPatterns } from '../collections/patterns.js';
import { insertRecords, type NewRecord, replaceRecords, writeProblem } from '../records/writeStore.js';
import type { Statements } from '../../platform/database/connection.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { RowKeys, saysTheSame } from './byKey.js';
import { type Mapping, RowMapper } from './mapping.js';
import { type ImportProgress, Report, stopped } from './report.js';
import { type Format, type OnHeader, readRows, type Row } from './rows.js';
import type { Author } from '../records/author.js';

export type ImportOptions = { format: Format; strict: boolean; check: boolean; mapping: Mapping; key?: string | undefined };
export type ImportPlace = { environment: Environment; collection: string; author: Author };

const CHUNK = 1_000;
/** The most columns of a file: more than fields, since some may be left out. */
const MAX_COLUMNS = 2 * MAX_FIELDS;
/** `before`: the record that the row changes. */
type Fitting = { row: Row; fresh: NewRecord; before?: RecordRow };
const NO_FIELDS: Fields = new Map();
type RowReading = { mapper: RowMapper; keys: RowKeys | null };

export class Importer {
  readonly #gate: WriteGate;

  constructor(
    private readonly parts: Parts,
    private readonly records: Records,
  ) {
    this.#gate = new WriteGate(parts, records);
  }

  async run(place: ImportPlace, body: Readable, options: ImportOptions, progress: ImportProgress = {}): Promise<ImportReport> {
    return options.strict || options.check ? this.#twice(place, body, options, progress) : this.#go(place, body, options, progress);
  }

  /** Row after row, each chunk a transaction of its own. The next chunk is read while one is being stored. */
  async #go(place: ImportPlace, body: Readable, options: ImportOptions, progress: ImportProgress): Promise<ImportReport> {
    const report = new Report(progress);
    const reading = await this.#reading(place, options);
    let storing: Promise<void> = Promise.resolve();
    for await (const rows of this.#chunks(place, body, options.format, report)) {
      const fitting = await this.#fit(place, rows, reading, report, true);
      await storing;
      storing = fitting.length > 0 ? this.#store(place.environment.db, place, fitting, report).then(() => report.chunk()) : storing;
      storing.catch(() => undefined);
    }
    await storing;
    this.parts.changes.wake(place.environment.id);
    return report.whole();
  }

  /** First checks every row; stores them in one transaction if all fit. */
  async #twice(place: ImportPlace, body: Readable, options: ImportOptions, progress: ImportProgress): Promise<ImportReport> {
    const directory = mkdtempSync(join(this.parts.config.dataDirectory, 'import-'));
    const file = join(directory, 'body');
    try {
      await pipeline(body, createWriteStream(file, { mode: 0o600 }));
      const looked = new Report(options.check ? progress : {});
      const reading = await this.#reading(place, options);
      for await (const rows of this.#chunks(place, createReadStream(file), options.format, looked)) {
        looked.stored += (await this.#fit(place, rows, reading, looked, !options.check)).length;
        looked.chunk();
      }
      if (options.check) return looked.whole();
      if (looked.rejected > 0) throw stopped(looked);
      return await this.#together(place, file, options, progress);
    } finally {
      rmSync(directory, { recursive: true, force: true });
    }
  }

  async #together(place: ImportPlace, file: string, options: ImportOptions, progress: ImportProgress): Promise<ImportReport> {
    const report = await place.environment.db.transaction(async (on) => {
      const own = new Report(progress);
      const reading = await this.#reading(place, options);
      for await (const rows of this.#chunks(place, createReadStream(file), options.format, own)) {
        // The fields exist by now; creating them would end the transaction.
        await this.#store(on, place, await this.#fit(place, rows, reading, own, false), own);
        if (own.rejected > 0) throw stopped(own);
        own.chunk();
      }
      return own;
    });
    this.parts.changes.wake(place.environment.id);
    await this.parts.jobs.wake(place.environment);
    return report.whole();
  }

  async *#chunks({ environment, collection }: ImportPlace, body: Readable, format: Format, report: Report): AsyncGenerator<Row[]> {
    const fields = (await this.parts.catalogue.find(environment, collection))?.fields ?? new Map();
    let rows: Row[] = [];
    const onHeader: OnHeader = ({ delimiter, columns }) => {
      report.noteDelimiter(delimiter);
      demandFewColumns(collection, columns);
    };
    for await (const row of readRows(body, format, fields, onHeader)) {
      rows.push(row);
      if (rows.length === CHUNK) {
        yield rows;
        rows = [];
      }
    }
    if (rows.length > 0) yield rows;
  }

  /** How rows are read: their columns, and the key that names records. */
  async #reading({ environment, collection }: ImportPlace, { format, mapping, key }: ImportOptions): Promise<RowReading> {
    const keys = await RowKeys.of(key, await this.parts.catalogue.find(environment, collection));
    return { mapper: new RowMapper(format, mapping), keys };
  }

  /** The rows that fit the fields. With `extend`, fields that an open environment is missing are created first. */
  async #fit(place: ImportPlace, rows: Row[], { mapper, keys }: RowReading, report: Report, extend: boolean): Promise<Fitting[]> {
    const { environment, collection } = place;
    let shape = await this.parts.catalogue.find(environment, collection);
    if (!shape && environment.mode === 'closed') throw unknownCollection(environment, collection);
    demandFewColumns(collection, Object.keys(rows[0]?.values ?? {}).length);
    if (report.rows === 0) mapper.learn(rows, shape?.fields ?? NO_FIELDS);
    report.rows += rows.length;
    const needed = extend && environment.mode === 'open' ? this.#neededFields(place, rows, mapper, shape?.fields) : null;
    if (needed) demandFewFields(collection, (shape?.fields.size ?? 0) + needed.added.size);
    if (needed && (!shape || needed.added.size > 0 || needed.widened.length > 0))
      shape = await this.parts.catalogue.extend(environment, collection, needed.added, needed.widened);
    for (const field of needed?.widened ?? []) await tellWidened(this.parts, environment, collection, field, () => undefined);
    if (keys) return this.#fitByKey(place, rows, mapper, keys, report, shape);
    const fitting: Fitting[] = [];
    for (const row of rows) {
      try {
        if (row.problem) report.reject(row, row.problem);
        else fitting.push({ row, fresh: await this.#check(place, row, mapper, shape?.fields ?? NO_FIELDS) });
      } catch (error) {
        report.refuse(row, error);
      }
    }
    return fitting;
  }

  /** The same, where rows change the records that they name by key. */
  async #fitByKey(
    place: ImportPlace,
    rows: readonly Row[],
    mapper: RowMapper,
    keys: RowKeys,
    report: Report,
    shape: CollectionShape | null,
  ): Promise<Fitting[]> {
    const fields = shape?.fields ?? NO_FIELDS;
    const read: Fitting[] = [];
    for (const row of rows) {
      try {
        if (row.problem) report.reject(row, row.problem);
        else read.push({ row, fresh: await this.#check(place, row, mapper, fields, 'part') });
      } catch (error) {
        report.refuse(row, error);
      }
    }
    const named = await keys.find(
      shape,
      read.map(({ row, fresh }) => ({ line: row.line, values: fresh.chosen ? { ...fresh.values, id: fresh.id } : fresh.values })),
    );
    const fitting: Fitting[] = [];
    for (const [i, one] of read.entries()) {
      const found = named[i];
      try {
        if (!found || 'problem' in found) report.reject(one.row, found?.problem ?? '');
        else if (!found.row || !shape) {
          fitting.push({ row: one.row, fresh: await this.#check(place, one.row, mapper, fields) });
          report.byKey.created++;
        } else if (saysTheSame(shape, found.row, one.fresh.values)) report.byKey.same++;
        else {
          fitting.push({ ...one, before: found.row });
          report.byKey.changed++;
        }
      } catch (error) {
        report.refuse(one.row, error);
      }
    }
    report.isByKey = true;
    return fitting;
  }

  #neededFields(
    { environment, collection }: ImportPlace,
    rows: Row[],
    mapper: RowMapper,
    fields: Fields = NO_FIELDS,
  ): { added: Fields; widened: string[] } {
    let added: Fields = new Map(
      [...mapper.guessed].filter(([name]) => !fields.has(name) && fieldNameProblem(name, fields.keys()) === null),
    );
    const widened = new Set<string>();
    for (const row of rows) {
      if (row.problem) continue;
      const known = added.size > 0 ? new Map([...fields, ...added]) : fields;
      const { id: _id, ownerId: _owner, ...values } = mapper.bodyOf(row, known);
      const check = checkFields(collection, known, values, {
        mode: 'open',
        extent: 'part',
        now: 0,
        withHidden: true,
        widening: environment.widening,
      });
      if (check.problems.length > 0) continue;
      if (check.added.size > 0) added = new Map([...added, ...check.added]);
      for (const name of check.widened) {
        if (fields.has(name)) widened.add(name);
        else (added.get(name) as Field).type = 'number';
      }
    }
    return { added, widened: [...widened] };
  }

  async #check(
    { environment, collection, author }: ImportPlace,
    row: Row,
    mapper: RowMapper,
    fields: Fields,
    extent: 'whole' | 'part' = 'whole',
  ): Promise<NewRecord> {
    const fresh = this.records.identify(mapper.bodyOf(row, fields), author);
    const check = checkFields(collection, fields, fresh.values, {
      mode: environment.mode,
      extent,
      now: this.parts.now(),
      withHidden: true,
      widening: environment.widening,
    });
    if (check.problems[0]) throw new Problem('invalid-input', check.problems[0].problem, { fields: check.problems });
    await demandSlowPatterns(this.parts, collection, check);
    return { ...fresh, values: check.values };
  }

  async #store(on: Statements, place: ImportPlace, fitting: Fitting[], report: Report): Promise<void> {
    if (fitting.length === 0) return;
    const { before, after } = await this.parts.recordPorts.hooks.on(place.environment, place.collection);
    if (before || after) return this.#storeHooked(on, place, fitting, report);
    const shape = await this.parts.catalogue.get(place.environment, place.collection);
    const now = new Date(this.parts.now());
    const { by } = place.author;
    const fresh = fitting.filter(({ before }) => !before);
    const known = fitting.filter(({ before }) => before);
    const insert = async (some: Fitting[]) => {
      const records = some.map((one) => one.fresh);
      await insertRecords(on, shape, records, now, by);
      return [];
    };
    const replace = async (some: Fitting[]) => {
      const changes = some.map(({ before, fresh: { values } }) => ({ id: (before as RecordRow).id, values }));
      const there = await inTransaction(on, place.environment, (inside) => replaceRecords(inside, shape, changes, now, by));
      return some.filter(({ before }) => !there.has((before as RecordRow).id));
    };
    if (fresh.length > 0) await writeApart(insert, shape, fresh, report);
    // Rows that bring the same fields are one statement: what a row does not bring is not written, so no change meanwhile is lost.
    for (const some of grouped(known, fieldsOf).values()) await writeApart(replace, shape, some, report);
  }

  /** Where functions of the team stand on records, each row is a write of its own, and asks them. */
  async #storeHooked(on: Statements, { environment, collection, author }: ImportPlace, fitting: Fitting[], report: Report): Promise<void> {
    for (const one of fitting) {
      const asked = askedOf(collection, one);
      try {
        if (on === environment.db) await this.#gate.write({ environment, author }, asked, true, (_on, write) => write());
        else await this.#gate.do(on, environment, author, asked, await this.#gate.ask({ environment, author }, asked));
        report.stored++;
      } catch (error) {
        if (!(error instanceof Problem)) throw error;
        report.byKey[one.before ? 'changed' : 'created']--;
        report.refuse(one.row, error);
      }
    }
  }
}

/** A row as the write that functions of the team are asked about. */
function askedOf(collection: string, { fresh: { id, ownerId, values, chosen }, before }: Fitting): AskedWrite {
  if (before) return { action: 'change', collection, id: before.id, record: values, expected: {} };
  return { action: 'create', collection, id: '', record: { ...values, ...(chosen ? { id } : {}), ownerId }, expected: {} };
}

const fieldsOf = ({ fresh }: Fitting): string => Object.keys(fresh.values).sort().join();

/** Columns beyond the limits of a collection are not examined. */
function demandFewColumns(collection: string, columns: number): void {
  if (columns > MAX_COLUMNS)
    throw tooWide(`The file has ${columns.toLocaleString('en')} columns; \`${collection}\` holds at most ${MAX_FIELDS} fields.`);
}

function demandFewFields(collection: string, fields: number): void {
  if (fields > MAX_FIELDS)
    throw tooWide(
      `With the columns of this file \`${collection}\` would have ${fields.toLocaleString('en')} fields; it holds at most ${MAX_FIELDS}.`,
    );
}

const tooWide = (problem: string) =>
  new Problem('invalid-input', `${problem} Nothing was stored.`, {
    fields: [{ path: 'columns', problem, expected: `a file with fewer columns, or \`columns\` that maps those it does not want to null` }],
  });

/** Locks hold until the end of a transaction; an import that stores chunk by chunk has none of its own. */
const inTransaction = <T>(on: Statements, { db }: Environment, work: (on: Statements) => Promise<T>): Promise<T> =>
  on === db ? db.transaction(work) : work(on);

/** As one statement; if a row is refused, by halves, until it is alone. @param write returns what could not be written */
async function writeApart(
  write: (some: Fitting[]) => Promise<Fitting[]>,
  shape: CollectionShape,
  fitting: Fitting[],
  report: Report,
): Promise<void> {
  try {
    const gone = await write(fitting);
    report.stored += fitting.length - gone.length;
    report.byKey.changed -= gone.length;
    for (const { row } of gone) report.reject(row, 'Its record was deleted meanwhile.');
  } catch (error) {
    const [{ row, fresh, before }] = fitting as [Fitting];
    const problem = writeProblem(error, shape, fresh);
    if (!(problem instanceof Problem)) throw error;
    if (fitting.length === 1) {
      report.byKey[before ? 'changed' : 'created']--;
      return report.refuse(row, problem);
    }
    const half = fitting.length >> 1;
    await writeApart(write, shape, fitting.slice(0, half), report);
    await writeApart(write, shape, fitting.slice(half), report);
  }
}
