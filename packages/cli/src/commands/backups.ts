/** Backups, and what is restored from them. */
import { readFileSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import { type BackupDocument, type HttpClient, operations, Problem, type RestoreDocument } from '@orchard/contract';
import { type Command, Option } from 'commander';
import { confirm } from '../asking.js';
import { CommandError, environmentOf, type GlobalOptions, signedIn, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { bytesWords } from '../fileTransfer.js';
import { moment, note, printItem, printList, printText } from '../output.js';
import { isBarShown, newBar } from '../progressBar.js';
import { print, surroundings } from '../surroundings.js';
import { unpack } from '../unpacking.js';

const own = operations.backups;
type Place = { app: string; environment: string };

export function addBackupCommands(program: Command): void {
  const group = program.command('backup').description('backups of an environment: made, proved by restoring them, and restored');
  addMake(group);
  addList(
    program,
    own.list,
    [
      'id',
      ['at', ({ at, askedAt }) => moment(at ?? askedAt)],
      'state',
      ['by', ({ by }) => by.name ?? by.kind],
      ['rows', ({ rows }) => rows],
      ['files', ({ files }) => files],
      ['stored', ({ newBytes }) => bytesWords(newBytes)],
      ['proved', provedWords],
      'note',
    ],
    {
      hint: ({ place, key, nextAt, problem }) =>
        [problem, `In ${place}; key ${key.mark} from ${key.whereabouts}.${nextAt ? ` The next one is made at ${moment(nextAt)}.` : ''}`]
          .filter(Boolean)
          .join('\n'),
    },
  );
  addCall(program, own.read, { print: show });
  addProve(group);
  addPlan(group);
  addRestore(group);
  addList(program, own.restores, [
    'id',
    ['at', ({ at }) => moment(at)],
    'state',
    ['what', ({ what, collection, into }) => collection ?? (into ? `${what} as ${into}` : what)],
    ['rows', ({ rows }) => rows],
    ['undo until', ({ undoUntil }) => undoUntil && moment(undoUntil)],
    'problem',
  ]);
  addUndo(group);
  addRemoval(program, own.remove, {
    what: ({ backup }) => `Deleting the backup ${backup}, and what only it consists of`,
    back: 'It cannot be brought back.',
  });
  addCall(program, own.settings);
  addSchedule(group);
  addPlace(program, group);
  addUnpack(group);
  addList(program, own.found, [
    'id',
    ['of', ({ app, environment }) => `${app}/${environment}`],
    ['at', ({ at, askedAt }) => moment(at ?? askedAt)],
    'state',
    ['rows', ({ rows }) => rows],
    ['key', ({ key }) => (key.here ? 'here' : `missing: ${key.mark}`)],
  ]);
}

function provedWords({ proof, state, doing, key, problem }: BackupDocument): string {
  if (state === 'failed') return problem ?? 'failed';
  if (!key.here) return `its key ${key.mark} is not here`;
  if (state === 'running' || doing) return doing ?? 'about to begin';
  return proof ? `${proof.whole ? 'whole' : 'NOT WHOLE'}, ${moment(proof.at)}` : 'not yet';
}

const POLL_MS = 300;

/** Shows what is done until it has ended. */
async function follow<T extends { doing: string | null }>(
  options: GlobalOptions,
  read: () => Promise<T>,
  runs: (now: T) => boolean,
): Promise<T> {
  const bar = isBarShown(options) ? newBar(' {doing}') : null;
  bar?.start(1, 0, { doing: '' });
  try {
    for (;;) {
      const now = await read();
      if (!runs(now)) return now;
      bar?.update(0, { doing: now.doing ?? '' });
      await sleep(POLL_MS);
    }
  } finally {
    bar?.stop();
  }
}

function addMake(group: Command): void {
  group
    .command('make')
    .description('make a backup, and wait until it is there')
    .option('--note <text>', 'what it is for', '')
    .option('--no-wait', 'do not wait')
    .action(async ({ note: text, wait }: { note: string; wait: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      const begun = await client.call(own.make, { params, body: { note: text } });
      if (!wait) return show(begun, options);
      const read = () => client.call(own.read, { params: { ...params, backup: begun.id } });
      const made = await follow(options, read, ({ state }) => state === 'running');
      if (made.state === 'failed') throw new CommandError(`The backup failed: ${made.problem}`, 1);
      show(made, options);
    });
}

function show(backup: BackupDocument, options: GlobalOptions): void {
  if (options.json) return print(JSON.stringify(backup, null, 2));
  const { id, at, askedAt, state, rows, bytes, files, fileBytes, newBytes, place } = backup;
  printItem(
    {
      id,
      at: moment(at ?? askedAt),
      state,
      holds: `${rows.toLocaleString('en')} rows (${bytesWords(bytes)}), ${files.toLocaleString('en')} files (${bytesWords(fileBytes)})`,
      stored: `${bytesWords(newBytes)} that the ones before did not have`,
      place,
      proved: provedWords(backup),
    },
    options,
  );
}

function addProve(group: Command): void {
  group
    .command('prove <backup>')
    .description('restore it into a database that nobody sees, and compare counts and digests')
    .action(async (backup: string, _options: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const place = { ...params, backup };
      const before = (await client.call(own.read, { params: place })).proof?.at;
      await client.call(own.prove, { params: place });
      const proved = await follow(
        options,
        () => client.call(own.read, { params: place }),
        ({ proof }) => !proof || proof.at === before,
      );
      if (options.json) print(JSON.stringify(proved, null, 2));
      if (!proved.proof?.whole) throw new CommandError(`The backup is not whole. ${proved.proof?.text}`, 1);
      note(`The backup is whole. ${proved.proof.text}`, options);
    });
}

async function showPlan(client: HttpClient, params: Place & { backup: string }, moment?: string): Promise<void> {
  const plan = await client.call(own.plan, { params, query: moment ? { moment } : {} });
  for (const [i, line] of plan.lines.entries()) print(`${i + 1}. ${printText(line)}`);
  print('');
  for (const { name, now, inBackup } of plan.tables)
    if (now !== inBackup) print(`  ${printText(name)}: ${now ?? 'none'} now, ${inBackup ?? 'none'} then`);
  for (const loss of plan.losses) print(`! ${printText(loss)}`);
  print(`About ${Math.ceil(plan.durationMs / 1000)} s.`);
}

function addPlan(group: Command): void {
  group
    .command('plan <backup>')
    .description('what restoring it in place of the environment would do, and what would be lost')
    .option('--moment <time>', 'records and users as of then, such as 2026-05-01T09:30:00.000Z')
    .action(async (backup: string, { moment: at }: { moment?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      if (options.json)
        return print(
          JSON.stringify(await client.call(own.plan, { params: { ...params, backup }, query: at ? { moment: at } : {} }), null, 2),
        );
      await showPlan(client, { ...params, backup }, at);
    });
}

type RestoreOptions = {
  into?: string;
  moment?: string;
  collection?: string;
  filter?: string;
  ids?: string;
  removeOthers?: boolean;
  yes?: boolean;
};

function addRestore(group: Command): void {
  group
    .command('restore [backup]')
    .description('restore an environment in its place or as a new one, or records of one collection; without a backup, by the change feed')
    .option('--into <environment>', 'make a new environment of it')
    .option('--moment <time>', 'records and users as of then')
    .option('--collection <name>', 'only records of this collection')
    .addOption(new Option('--filter <cql2>', 'of the collection, those that it fits as they were then'))
    .option('--ids <list>', 'of the collection, these')
    .option('--remove-others', 'of the collection, delete records that did not exist then')
    .option('--yes', 'do not ask')
    .action(async (backup: string | undefined, given: RestoreOptions, command: Command) => {
      const options = command.optsWithGlobals<GlobalOptions>();
      const { client } = signedIn(options);
      const params = environmentOf(options);
      const begun = given.collection
        ? await restoreRecords(client, params, backup, given.collection, given)
        : await restoreWhole(client, params, backup, given);
      const read = () => readRestore(client, params, begun);
      const ended = await follow(options, read, ({ state }) => state === 'running');
      if (options.json) print(JSON.stringify(ended, null, 2));
      if (ended.state !== 'done') throw new CommandError(`Nothing was restored: ${ended.problem}`, 1);
      for (const line of ended.notes) note(line, options);
      note(
        ended.undoUntil ? `Restored. \`orchard backup undo ${ended.id}\` takes it back until ${moment(ended.undoUntil)}.` : 'Restored.',
        options,
      );
    });
}

/** An environment that is gone has no list of restores before it is back. */
async function readRestore(client: HttpClient, params: Place, begun: RestoreDocument): Promise<RestoreDocument> {
  try {
    return await client.call(own.readRestore, { params: { ...params, restore: begun.id } });
  } catch (error) {
    if (error instanceof Problem && error.problem === 'not-found') return begun;
    throw error;
  }
}

function restoreRecords(
  client: HttpClient,
  params: Place,
  backup: string | undefined,
  collection: string,
  { moment: at, filter, ids, removeOthers }: RestoreOptions,
): Promise<RestoreDocument> {
  if ((backup === undefined) === (at === undefined))
    throw new CommandError('Give either a backup, or --moment with a time of the last 30 days.', 2);
  return client.call(own.restoreRecords, {
    params,
    body: {
      collection,
      ...(backup ? { backup } : { moment: at }),
      ...(filter ? { filter } : {}),
      ids: ids?.split(',').map((id) => id.trim()) ?? [],
      removeOthers: removeOthers ?? false,
    },
  });
}

async function restoreWhole(
  client: HttpClient,
  params: Place,
  backup: string | undefined,
  { moment: at, into, yes }: RestoreOptions,
): Promise<RestoreDocument> {
  if (!backup)
    throw new CommandError('Name the backup: `orchard backup list` shows them. For records alone, give --collection and --moment.', 2);
  const wish = { ...(at ? { moment: at } : {}), ...(into ? { into } : {}) };
  if (!(await isThere(client, params))) return client.call(own.restoreGone, { params: { backup }, body: { ...params, ...wish } });
  if (!into && !yes) {
    await showPlan(client, { ...params, backup }, at);
    await confirm(`Replacing ${params.app}/${params.environment}`, yes, 'It can be undone for three days.');
  }
  return client.call(own.restore, { params: { ...params, backup }, body: wish });
}

async function isThere(client: HttpClient, { app, environment }: Place): Promise<boolean> {
  const { items } = await client.call(operations.apps.list, {});
  return items.some((one) => one.name === app && one.environments.some(({ name }) => name === environment));
}

function addUndo(group: Command): void {
  group
    .command('undo <restore>')
    .description('put the environment back that a restore has replaced')
    .option('--yes', 'do not ask')
    .action(async (restore: string, { yes }: { yes?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      await confirm(
        `Putting back what ${params.app}/${params.environment} was before the restore`,
        yes,
        'What was written since the restore is lost.',
      );
      await client.call(own.undo, { params: { ...params, restore } });
      note('It is as it was before the restore.', options);
    });
}

type PlaceOptions = { host?: string; port: string; user?: string; path: string; hostKey?: string; privateKey?: string };

function addPlace(program: Command, group: Command): void {
  addCall(program, own.place);
  group
    .command('keep-at')
    .description('keep backups on another host by SFTP; without --host, in the directory of the settings')
    .option('--host <host>', 'the host')
    .option('--port <n>', 'its port', '22')
    .option('--user <name>', 'the user there')
    .option('--path <folder>', 'a folder there', '')
    .option('--host-key <fingerprint>', 'of the host, SHA256:…; without it, the command says which key the host shows')
    .option('--private-key <file>', 'the key to sign in with; without it, ORCHARD_SFTP_PASSWORD')
    .action(async ({ host, port, user, path, hostKey, privateKey }: PlaceOptions, command: Command) => {
      const options = command.optsWithGlobals<GlobalOptions>();
      const { client } = signedIn(options);
      if (!host) return printItem(await client.call(own.changePlace, { body: { kind: 'directory' } }), options);
      if (!user) throw new CommandError('Give --user.', 2);
      const password = surroundings().env.ORCHARD_SFTP_PASSWORD;
      const secret = privateKey ? { privateKey: readFileSync(privateKey, 'utf8') } : password ? { password } : {};
      const body = { kind: 'sftp', host, port: Number(port), user, path, ...(hostKey ? { hostKey } : {}), ...secret } as const;
      printItem(await client.call(own.changePlace, { body }), options);
    });
}

type ScheduleOptions = { every?: 'day' | 'week' | 'never'; hour?: string; days?: string; weeks?: string; months?: string; prove?: boolean };

/** What is not given stays as it is. */
function addSchedule(group: Command): void {
  group
    .command('schedule')
    .description('change when backups are made, and how long those are kept')
    .addOption(new Option('--every <span>', 'week: on Sundays; never: by hand only').choices(['day', 'week', 'never']))
    .option('--hour <n>', 'of the day, in UTC')
    .option('--days <n>', 'days back of which one each is kept')
    .option('--weeks <n>', 'weeks back')
    .option('--months <n>', 'months back')
    .option('--prove', 'prove each one by restoring it')
    .option('--no-prove')
    .action(async (given: ScheduleOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      const now = await client.call(own.settings, { params });
      const every = given.every ?? now.schedule?.every ?? 'never';
      const number = (text: string | undefined, before: number) => (text === undefined ? before : Number(text));
      const body = {
        schedule: every === 'never' ? null : { every, hour: number(given.hour, now.schedule?.hour ?? 3) },
        keep: {
          days: number(given.days, now.keep.days),
          weeks: number(given.weeks, now.keep.weeks),
          months: number(given.months, now.keep.months),
        },
        prove: given.prove ?? now.prove,
      };
      printItem(await client.call(own.changeSettings, { params, body }), options);
    });
}

function addUnpack(group: Command): void {
  group
    .command('unpack <folder>')
    .description('write the records of a backup as NDJSON that `orchard record import` reads; asks no service')
    .requiredOption('--key-file <file>', 'the key of the backup: 64 hexadecimal digits')
    .requiredOption('--to <directory>', 'where the files go: one for each collection')
    .action((folder: string, { keyFile, to }: { keyFile: string; to: string }, command: Command) => {
      const options = command.optsWithGlobals<GlobalOptions>();
      const written = unpack(folder, keyFile, to);
      printList(written, ['collection', 'records', 'file'], options);
    });
}
