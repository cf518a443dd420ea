/** Functions of the team, from files of a repository. */
import { readdirSync, readFileSync, statSync, writeFileSync, mkdirSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import {
  ENDPOINT_CALLERS,
  ENDPOINT_METHODS,
  type FunctionRun,
  type FunctionShown,
  functionWords,
  HOOK_ACTIONS,
  HOOK_MOMENTS,
  HOOK_SUBJECTS,
  type HookOn,
  MISSED_RUNS,
  type NewFunctionVersion,
  operations,
} from '@orchard/contract';
import { type Command, Option } from 'commander';
import { passwordOf } from '../asking.js';
import { CommandError, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { jsonOption } from '../jsonOption.js';
import { moment, note, printItem, printText } from '../output.js';
import { print, surroundings } from '../surroundings.js';

type PushOptions = {
  path?: string;
  methods?: string;
  callers?: string;
  on?: string;
  clock?: string;
  zone?: string;
  missed?: string;
  rights?: string;
  hosts?: string;
  use: boolean;
};
const list = (text: string | undefined): string[] | undefined => text?.split(',').map((one) => one.trim());

/** As what a single file is pushed. */
function mainFileOf(path: string): string {
  if (path.endsWith('.json')) return 'combine.json';
  return path.endsWith('.js') ? 'main.js' : 'main.ts';
}

/** The files of a function: one file, or all code of a folder. */
export function filesAt(path: string): Record<string, string> {
  try {
    if (statSync(path).isFile()) return { [mainFileOf(path)]: readFileSync(path, 'utf8') };
    const names = readdirSync(path, { recursive: true, withFileTypes: true }).filter(
      (entry) => entry.isFile() && /(\.(ts|js)|^combine\.json)$/.test(entry.name) && !entry.name.endsWith('.d.ts'),
    );
    return Object.fromEntries(
      names.map((entry) => {
        const file = join(entry.parentPath, entry.name);
        return [relative(path, file), readFileSync(file, 'utf8')];
      }),
    );
  } catch (error) {
    throw new CommandError(`The code at ${path} cannot be read: ${(error as Error).message}.`, 2);
  }
}

function printRun({ at, version, cause, attempt, outcome, status, durationMs, cpuMs, error, log, calls }: FunctionRun): void {
  print(
    `${moment(at)}  version ${version}  ${printText(cause)}${attempt > 1 ? `, attempt ${attempt}` : ''}: ${outcome}${status === null ? '' : ` ${status}`}  ${durationMs.toFixed(1)} ms, ${cpuMs.toFixed(1)} ms of the processor`,
  );
  if (error) print(`  ${printText(error).replaceAll('\n', '\n  ')}`);
  for (const { level, text } of log) print(`  ${level.padEnd(5)}  ${printText(text)}`);
  for (const { name, about, ms, ok } of calls) print(`  called ${name} ${printText(about)}: ${ok ? 'well' : 'failed'}, ${ms} ms`);
}

export function addFunctionCommands(program: Command): void {
  const group = program.command('function').description('the team’s own code, in force from the next call on');
  addList(program, operations.functions.list, [
    'name',
    'kind',
    ['stands', functionWords],
    ['version', ({ version, versions }) => (version === 0 ? 'none' : `${version} of ${versions}`)],
    ['runs, 24 h', ({ runs }) => runs.count],
    ['failed', ({ runs }) => runs.failed],
    ['mean', ({ runs }) => (runs.meanMs === null ? '' : `${runs.meanMs} ms`)],
  ]);
  addCall(program, operations.functions.read);
  addPush(group);
  addPull(group);
  addTry(group);
  addList(program, operations.functions.versions, [
    'version',
    'createdAt',
    ['in force', ({ inForce }) => (inForce ? 'yes' : '')],
    ['files', ({ files }) => Object.keys(files).join(', ')],
  ]);
  addCall(program, operations.functions.use);
  addCall(program, operations.functions.again);
  addCall(program, operations.functions.document, { print: (document) => print(JSON.stringify(document, null, 2)) });
  addList(program, operations.functions.runs, [
    'at',
    'version',
    'cause',
    'attempt',
    'outcome',
    'status',
    'durationMs',
    'cpuMs',
    'error',
    'id',
  ]);
  group
    .command('log')
    .description('the latest runs of a function, with their log lines and calls')
    .argument('<name>')
    .action(async (name: string, _own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const { items } = await client.call(operations.functions.runs, { params: { ...params, name }, query: { limit: 20 } });
      if (options.json) return print(JSON.stringify(items, null, 2));
      for (const run of items.reverse()) printRun(run);
    });
  addRemoval(program, operations.functions.remove, {
    what: ({ name }) => `Deleting the function ${name} with its versions and runs`,
    done: ({ name }) => `Deleted the function ${name}.`,
  });
  addSecrets(program);
}

function addPush(group: Command): void {
  group
    .command('push')
    .description('save a version of a function from a file or a folder; it is checked first, and in force at once')
    .argument('<name>')
    .argument('<file or folder>')
    .option('--path <path>', 'where it answers, below /app/v1/endpoints/; its name, if left out')
    .option('--methods <methods>', `comma-separated: ${ENDPOINT_METHODS.join(', ')}`)
    .addOption(new Option('--callers <callers>', 'who may call it').choices(ENDPOINT_CALLERS))
    .addOption(new Option('--rights <rights>', 'whose rights it has').choices(['caller', 'own']))
    .option('--on <where>', 'makes it a hook: moment, actions and what, such as "before create,update bookings"')
    .option('--clock <expression>', 'makes it a schedule: a cron expression, such as "0 6 * * 1-5"')
    .option('--zone <zone>', 'time zone of its clock, such as Europe/Oslo; UTC, if left out')
    .addOption(new Option('--missed <how>', 'what to do for times at which no instance was up').choices(MISSED_RUNS))
    .option('--hosts <hosts>', 'hosts that it may fetch from, comma-separated')
    .option('--no-use', 'save the version without putting it in force')
    .action(async (name: string, path: string, own: PushOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      const at = { params: { ...params, name } };
      // What is not said stays as it is.
      const before = await client.call(operations.functions.read, at).catch(() => null);
      const body: NewFunctionVersion = {
        ...placeOf(name, own, before),
        rights: (own.rights ?? before?.rights ?? 'caller') as never,
        hosts: list(own.hosts) ?? before?.hosts ?? [],
        files: filesAt(path),
        use: own.use,
      };
      const saved = await client.call(operations.functions.put, { ...at, body });
      if (options.json) return printItem(saved, options);
      note(
        `Saved version ${saved.versions} of ${name}; ${saved.version === saved.versions ? 'it is in force' : `version ${saved.version} is in force`}.`,
        options,
      );
    });
}

type Place = Pick<NewFunctionVersion, 'kind' | 'path' | 'methods' | 'callers' | 'on' | 'clock' | 'zone' | 'missed'>;

/** Where it is to stand, by the options; what they do not say stays as it is. */
function placeOf(name: string, own: PushOptions, before: FunctionShown | null): Place {
  const kind = own.on ? 'hook' : own.clock ? 'schedule' : (before?.kind ?? 'endpoint');
  if (kind === 'hook') return { kind, on: own.on ? readOn(own.on) : before?.on };
  if (kind === 'schedule')
    return { kind, clock: own.clock ?? before?.clock, zone: own.zone ?? before?.zone, missed: (own.missed ?? before?.missed) as never };
  return {
    kind,
    path: own.path ?? before?.path ?? name,
    methods: (list(own.methods) ?? before?.methods) as never,
    callers: (own.callers ?? before?.callers) as never,
  };
}

/** `before create,update bookings` @throws {CommandError} */
function readOn(text: string): HookOn {
  const [moment = '', actions = '', what = '', ...more] = text.trim().split(/\s+/);
  const asked = actions.split(',');
  if (
    more.length > 0 ||
    !what ||
    !(HOOK_MOMENTS as readonly string[]).includes(moment) ||
    !asked.every((one) => (HOOK_ACTIONS as readonly string[]).includes(one))
  )
    throw new CommandError(
      `--on takes three words: ${HOOK_MOMENTS.join(', ')}; actions among ${HOOK_ACTIONS.join(',')}; and a collection or one of ${HOOK_SUBJECTS.join(', ')}. Such as "before create,update bookings".`,
      2,
    );
  const isSubject = (HOOK_SUBJECTS as readonly string[]).includes(what);
  return { moment, actions: asked, ...(isSubject ? { subject: what } : { collection: what }) } as HookOn;
}

function addPull(group: Command): void {
  group
    .command('pull')
    .description('write the files of the version in force into a folder')
    .argument('<name>')
    .argument('<folder>')
    .action(async (name: string, folder: string, _own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const { items } = await client.call(operations.functions.versions, { params: { ...params, name } });
      const version = items.find(({ inForce }) => inForce) ?? items[0];
      if (!version) throw new CommandError(`${name} has no version.`, 1);
      for (const [file, text] of Object.entries(version.files)) {
        mkdirSync(dirname(join(folder, file)), { recursive: true });
        writeFileSync(join(folder, file), text);
      }
      note(`Wrote version ${version.version} of ${name}: ${Object.keys(version.files).join(', ')}.`, options);
    });
}

function addTry(group: Command): void {
  group
    .command('try')
    .description('run a function, or a draft, on a made-up request; what it writes is shown and undone')
    .argument('<name>')
    .option('--draft <file or folder>', 'code in place of the version in force')
    .option('--request <json>', 'method, params, query, body', '{}')
    .option('--event <json>', 'for a hook: action, before, record, sent; for a schedule: due')
    .option('--user <id>', 'as this user; as a server, if left out')
    .action(async (name: string, own: { draft?: string; request: string; event?: string; user?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const body = {
        request: jsonOption(own.request, '--request') as never,
        ...(own.event ? { event: jsonOption(own.event, '--event') as never } : {}),
        ...(own.user ? { user: own.user } : {}),
        ...(own.draft ? { files: filesAt(own.draft) } : {}),
      };
      const tried = await client.call(operations.functions.try, { params: { ...params, name }, body });
      if (options.json) return print(JSON.stringify(tried, null, 2));
      const { outcome, answer, error, durationMs, cpuMs, log, calls, changes } = tried;
      print(`${outcome}: ${JSON.stringify(answer)}`);
      printTrial({ error, durationMs, cpuMs, log, calls });
      for (const change of changes) print(`  would write ${JSON.stringify(change)}`);
      if (outcome === 'failed' || outcome === 'stopped') surroundings().exitCode = 1;
    });
}

function printTrial({ error, durationMs, cpuMs, log, calls }: Pick<FunctionRun, 'error' | 'durationMs' | 'cpuMs' | 'log' | 'calls'>): void {
  print(`  ${durationMs.toFixed(1)} ms, ${cpuMs.toFixed(1)} ms of the processor`);
  if (error) print(`  ${printText(error)}`);
  for (const { level, text } of log) print(`  ${level.padEnd(5)}  ${printText(text)}`);
  for (const { name, about, ms, ok } of calls) print(`  called ${name} ${printText(about)}: ${ok ? 'well' : 'failed'}, ${ms} ms`);
}

function addSecrets(program: Command): void {
  const secret = program.command('secret').description('what functions may read, and nobody is shown');
  addList(program, operations.functions.secrets, ['name', 'changedAt']);
  secret
    .command('set')
    .description('set a secret; its value is asked for')
    .argument('<name>')
    .option('--value-stdin', 'read the value from standard input')
    .action(async (name: string, { valueStdin }: { valueStdin?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      const value = await passwordOf('Value: ', valueStdin);
      await client.call(operations.functions.putSecret, { params: { ...params, secret: name }, body: { value } });
      note(`Set the secret ${name}.`, options);
    });
  addRemoval(program, operations.functions.removeSecret, {
    what: ({ secret: name }) => `Deleting the secret ${name}`,
    done: ({ secret: name }) => `Deleted the secret ${name}.`,
  });
}
