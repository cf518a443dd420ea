import {
  type ActorDocument,
  actorWords,
  type BatchResult,
  followEvents,
  IMPORT_FORMATS,
  type LiveEvent,
  operations,
  type OrchardRecord,
} from '@orchard/contract';
import { type Command, Option } from 'commander';
import { readObject } from '../asking.js';
import { CommandError, type GlobalOptions, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { wholeNumber } from '../numbers.js';
import { type Columns, moment, note, printItem, printList, printText } from '../output.js';
import { exportFile, importFile } from '../transfer.js';
import { print } from '../surroundings.js';

const SYSTEM = ['createdAt', 'updatedAt', 'ownerId', '_included'];
const ifVersion = (version: number | undefined): Record<string, string> => (version ? { 'if-match': `"${version}"` } : {});

/** Columns for every field of the items, except system fields of little interest. */
function columnsOf(items: readonly object[]): Columns<Record<string, unknown>> {
  return [...new Set(items.flatMap((item) => Object.keys(item)))].filter((name) => !SYSTEM.includes(name));
}

export function addRecordCommands(program: Command): void {
  const record = program.command('record').description('records of a collection');
  addReads(program, record);
  addWrites(program, record);
  addHistory(program);
  addFiles(record);
}

/** Averages to three places, for people. */
const rounded = (group: object): Record<string, unknown> =>
  Object.fromEntries(Object.entries(group).map(([name, value]) => [name, typeof value === 'number' ? Number(value.toFixed(3)) : value]));

const FIELD_TEXTS = {
  fields: { flags: '--fields <names>', about: 'only these fields' },
  include: { flags: '--include <references>', about: 'include referenced records, such as hut,guest or bookings(hut)' },
};

function addReads(program: Command, record: Command): void {
  addList(
    program,
    operations.managedRecords.list,
    (items, command) => [
      ...(columnsOf(items) as Columns<OrchardRecord>),
      ...(command.getOptionValue('include') ? [['included', ({ _included }: OrchardRecord) => _included] as const] : []),
    ],
    {
      about: 'records of a collection',
      options: { ...FIELD_TEXTS, count: { flags: '--count', about: 'count all matching records' } },
      hint: ({ count }) => (count === undefined ? undefined : `${count} in all.`),
    },
  );
  addCall(program, operations.managedRecords.read, { about: 'one record', options: FIELD_TEXTS });
  record
    .command('summary')
    .description('counts and measures of groups')
    .argument('<collection>')
    .option('--group <fields>', 'up to three, such as hut,arrives:week')
    .option('--measure <measures>', 'such as count,sum:nights,avg:party', 'count')
    .option('--filter <cql2>', 'a condition')
    .addOption(new Option('--limit <n>', 'at most this many groups, up to 1,000').argParser(wholeNumber(1, 1000)).default(100))
    .action(async (collection: string, own: { group?: string; measure: string; filter?: string; limit: number }, command: Command) => {
      const { options, client, params } = workspace(command);
      const { groups, more } = await client.call(operations.managedRecords.summary, {
        params: { ...params, collection },
        query: own,
      });
      const exact = options.json || options.csv;
      printList(exact ? (groups as Record<string, unknown>[]) : groups.map(rounded), columnsOf(groups), options);
      if (more) note('There are more groups: raise --limit.', options);
    });
  record
    .command('watch')
    .description('changes of records as they happen')
    .argument('<collection>')
    .argument('[id]', 'one record, also one that does not exist yet')
    .option('--filter <cql2>', 'a condition')
    .addOption(new Option('--after <number>', 'begin after this event').argParser(wholeNumber(0)))
    .action(async (collection: string, id: string | undefined, own: { filter?: string; after?: number }, command: Command) => {
      const { options, client, params } = workspace(command);
      const stopping = new AbortController();
      process.once('SIGINT', () => stopping.abort());
      let after = own.after;
      const open = (headers: Record<string, string>, signal: AbortSignal) => {
        const from = headers['last-event-id'] ? headers : after === undefined ? {} : { 'last-event-id': String(after) };
        after = undefined;
        const input = { headers: from, signal };
        return id
          ? client.open(operations.managedRecords.liveOne, { params: { ...params, collection, id }, ...input })
          : client.open(operations.managedRecords.live, {
              params: { ...params, collection },
              query: own.filter ? { filter: own.filter } : {},
              ...input,
            });
      };
      const onState = (state: 'open' | 'waiting') =>
        note(
          state === 'open' ? `Watching ${collection}${id ? `/${id}` : ''}. Ctrl-C ends.` : 'The connection was lost; reconnecting.',
          options,
        );
      await followEvents({
        open,
        onState,
        signal: stopping.signal,
        onEvent: (event) => print(options.json ? JSON.stringify(event) : eventLine(event)),
      });
    });
}

/** `12:03:04  changed  cold-tarn v4  by user:…  {"bunks":12}` */
function eventLine({ event, data, id }: LiveEvent): string {
  const { record, by, ...rest } = data as { record?: OrchardRecord; by?: ActorDocument; id?: string; version?: number };
  const at = moment(record?.updatedAt ?? null).slice(11) || `#${id}`;
  if (!record) return printText(`${at}  ${event.padEnd(8)} ${rest.id ?? ''}${rest.version ? ` v${rest.version}` : ''}`);
  const { id: recordId, version, createdAt: _c, updatedAt: _u, ownerId: _o, ...fields } = record;
  return printText(`${at}  ${event.padEnd(8)} ${recordId} v${version}${by ? `  by ${actorWords(by)}` : ''}  ${JSON.stringify(fields)}`);
}

function addWrites(program: Command, record: Command): void {
  record
    .command('add')
    .description('store a record')
    .argument('<collection>')
    .argument('<json>', 'its fields, or - for standard input')
    .option('--key <key>', 'Idempotency-Key, for safe retries')
    .action(async (collection: string, json: string, { key }: { key?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      printItem(
        await client.call(operations.managedRecords.create, {
          params: { ...params, collection },
          body: await readObject(json),
          headers: key ? { 'idempotency-key': key } : {},
        }),
        options,
      );
    });
  const writes = [
    { name: 'put', description: 'replace a record, or create it', operation: operations.managedRecords.put },
    { name: 'change', description: 'change some fields (merge patch)', operation: operations.managedRecords.patch },
  ] as const;
  for (const { name, description, operation } of writes) {
    record
      .command(name)
      .description(description)
      .argument('<collection>')
      .argument('<id>')
      .argument('<json>', 'its fields, or - for standard input')
      .addOption(new Option('--if-match <version>', 'only over this version').argParser(wholeNumber(1)))
      .action(async (collection: string, id: string, json: string, own: { ifMatch?: number }, command: Command) => {
        const { options, client, params } = workspace(command);
        const body = await readObject(json);
        printItem(await client.call(operation, { params: { ...params, collection, id }, body, headers: ifVersion(own.ifMatch) }), options);
      });
  }
  const where = ({ collection, id }: Record<string, string>) => `${collection}/${id}`;
  addRemoval(program, operations.managedRecords.remove, {
    what: (params) => `Deleting ${where(params)}`,
    back: 'You can restore it from its history for 30 days.',
    done: (params) => `Deleted ${where(params)}. \`orchard record history ${params.collection} ${params.id}\` shows how to restore it.`,
  });
  addCall(program, operations.batches.managed, {
    print: ({ results }, options) => (options.json ? printItem({ results }, options) : printResults(results, options)),
  });
  record
    .command('batch')
    .description('many actions in one call')
    .argument('<collection>')
    .argument('<json>', '{"actions": [{"action": "create", "record": {…}}, …]}, or - for standard input')
    .option('--apart', 'each action on its own, instead of all or nothing')
    .action(async (collection: string, json: string, own: { apart?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      const body = { ...(await readObject(json)), ...(own.apart ? { together: false } : {}) };
      const { results } = await client.call(operations.managedRecords.batch, { params: { ...params, collection }, body: body as never });
      printResults(results, options);
    });
}

function addHistory(program: Command): void {
  const said = (value: unknown) => (value === null ? 'nothing' : JSON.stringify(value));
  addList(
    program,
    operations.managedRecords.history,
    [
      'entry',
      'version',
      'at',
      'action',
      ['by', ({ by }) => actorWords(by)],
      [
        'changes',
        ({ changes, action }) =>
          changes
            .map(({ field, from, to }) => (action === 'create' ? `${field}: ${said(to)}` : `${field}: ${said(from)} → ${said(to)}`))
            .join('\n'),
      ],
    ],
    { about: 'who changed what, latest first' },
  );
  addCall(program, operations.managedRecords.restore, { about: 'restore an earlier version, as the next one' });
}

type Format = keyof typeof IMPORT_FORMATS;

/** Given, or taken from the file's extension. */
function formatOf(given: string | undefined, file: string): Format {
  const ending =
    given ??
    { csv: 'csv', ndjson: 'ndjson', jsonl: 'ndjson', geojson: 'geojson', json: 'geojson' }[file.split('.').at(-1)?.toLowerCase() ?? ''];
  if (ending && Object.hasOwn(IMPORT_FORMATS, ending)) return ending as Format;
  throw new CommandError(`The format of ${file} is not known from its name. Give --format csv, ndjson or geojson.`, 2);
}

function addFiles(record: Command): void {
  record
    .command('import')
    .description('store the rows of a file')
    .argument('<collection>')
    .argument('<file>', 'or - for standard input')
    .option('--format <format>', 'csv, ndjson or geojson; by default from the file name')
    .option('--map <columns>', 'column=field, comma-separated; column= leaves it out')
    .option('--strict', 'store nothing when one row does not fit')
    .option('--check', 'only check the rows')
    .option('--key <fields>', 'change the records that have these values, and create the others; comma-separated, or id')
    .option('--rejects <file>', 'file for rejected rows, or - for standard output; by default <file>.rejects.ndjson')
    .action(
      async (
        collection: string,
        file: string,
        own: { format?: string; map?: string; strict?: boolean; check?: boolean; key?: string; rejects?: string },
        command: Command,
      ) => {
        const place = workspace(command);
        const columns = own.map
          ? JSON.stringify(
              Object.fromEntries(
                own.map
                  .split(',')
                  .map((pair) => pair.split('='))
                  .map(([column = '', field]) => [column.trim(), field?.trim() || null]),
              ),
            )
          : undefined;
        const report = await importFile(place, {
          collection,
          file,
          format: formatOf(own.format, file),
          rejects: own.rejects,
          query: { strict: own.strict, check: own.check, key: own.key, columns },
        });
        if (place.options.json) printItem(report as never, place.options);
        if (report.rejected > 0)
          throw new CommandError(
            `${report.rejected} row${report.rejected === 1 ? ' does' : 's do'} not fit. ${report.rejectsFile ? `They are in ${report.rejectsFile}, each with its line and reason.` : ''}`,
            1,
          );
      },
    );
  record
    .command('export')
    .description('write records to a file, or to standard output')
    .argument('<collection>')
    .argument('[file]', 'or - for standard output')
    .option('--format <format>', 'csv, ndjson or geojson; by default from the file name')
    .option('--filter <cql2>', 'a condition')
    .option('--fields <names>', 'only these fields')
    .action(
      async (
        collection: string,
        file: string | undefined,
        own: { format?: string; filter?: string; fields?: string },
        command: Command,
      ) => {
        const toFile = file === '-' ? undefined : file;
        const format = own.format || toFile ? formatOf(own.format, toFile ?? '') : 'ndjson';
        await exportFile(workspace(command), {
          collection,
          file: toFile,
          query: { format, ...(own.filter ? { filter: own.filter } : {}), ...(own.fields ? { fields: own.fields } : {}) },
        });
      },
    );
}

const printResults = (results: readonly BatchResult[], options: GlobalOptions): void =>
  printList(
    results.map((result, i) => ({ action: i + 1, ...result })),
    ['action', 'status', 'id', 'version', ['problem', ({ problem }) => problem?.detail]],
    options,
  );
