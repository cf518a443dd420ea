/** The setup of an environment as a file, and its releases. */
import { existsSync, writeFileSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import {
  countsOf,
  differenceMarkdown,
  differenceText,
  type HttpClient,
  operations,
  type ReleaseDocument,
  SETUP_TEMPLATES,
  type SetupDifferenceDocument,
  setupFile,
} from '@orchard/contract';
import { type Command, Option } from 'commander';
import { z } from 'zod';
import { ask } from '../asking.js';
import { CommandError, type GlobalOptions, workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { moment, note, printText } from '../output.js';
import { isBarShown, newBar } from '../progressBar.js';
import { newSetupFile, SETUP_FILE, SetupFile } from '../setupFile.js';
import { print, surroundings } from '../surroundings.js';

const own = operations.setups;
/** How `compare` ends where something differs. */
const DIFFERS = 6;
type Place = { app: string; environment: string };
type SourceOptions = { from?: string; template?: (typeof SETUP_TEMPLATES)[number]; only?: string };
type Source = Pick<
  (typeof own.compare)['body'] extends infer B ? (B extends z.ZodType ? z.input<B> : never) : never,
  'setup' | 'from' | 'template' | 'release' | 'only'
>;

export function addSetupCommands(program: Command): void {
  const group = program.command('setup').description('what an environment should be, as a file: read, compared, applied');
  addExport(group);
  addCompare(group);
  addApply(group);
  addCheck(group);
  group
    .command('schema')
    .description('print the JSON Schema of setup files, for editors')
    .action(() => print(JSON.stringify(schemaOfFiles(), null, 2)));
  addCall(program, own.sample);
  addCall(program, own.settings);
  addCall(program, own.changeSettings);
  addReleases(program);
}

/** What the file says besides what the service takes: the files that it is split into, and folders of code. */
function schemaOfFiles(): object {
  const schema = z.toJSONSchema(setupFile, { io: 'input', unrepresentable: 'any' });
  const functions = schema.properties?.functions as { additionalProperties?: { properties?: object; required?: string[] } } | undefined;
  const part = functions?.additionalProperties;
  if (part) {
    part.properties = { ...part.properties, from: { type: 'string', description: 'A folder or file with its code, in place of `files`' } };
    part.required = part.required?.filter((name) => name !== 'files') ?? [];
  }
  const files = { type: 'array', items: { type: 'string' }, description: 'Further files, each with kinds of its own' };
  return { ...schema, properties: { ...schema.properties, files } };
}

const sourced = (command: Command): Command =>
  command
    .argument('[file]', 'the setup file', SETUP_FILE)
    .option('--from <app/environment>', 'another environment in place of a file')
    .addOption(new Option('--template <template>', 'a template in place of a file').choices([...SETUP_TEMPLATES]))
    .option('--only <parts>', 'only these kinds or parts, comma-separated, such as topics,collections/huts');

async function sourceOf(file: string, { from, template, only }: SourceOptions): Promise<Source> {
  const chosen = { only: only?.split(',').map((part) => part.trim()) ?? [] };
  if (template) return { template, ...chosen };
  if (from) {
    const [app, environment, ...rest] = from.split('/');
    if (!app || !environment || rest.length > 0)
      throw new CommandError(`--from takes an app and an environment, such as quillfell-hiker/dev; got ${from}.`, 2);
    return { from: { app, environment }, ...chosen };
  }
  const read = await SetupFile.read(file);
  read.check();
  return { setup: read.setup as never, ...chosen };
}

function addExport(group: Command): void {
  group
    .command('export')
    .description('write the setup of the environment; a file that is there keeps its comments and order')
    .option('--out <file>', 'write this file instead of standard output')
    .option('--functions <folder>', 'write the code of functions into this folder beside the file')
    .action(async ({ out, functions }: { out?: string; functions?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      if (functions && !out) throw new CommandError('--functions needs --out <file>: the folder stands beside that file.', 2);
      if (out && existsSync(out)) {
        const file = await SetupFile.read(out);
        file.check();
        const difference = await client.call(own.compare, { params, body: { setup: file.setup as never } });
        const written = await file.update(difference);
        return note(written.length > 0 ? `Wrote ${written.join(', ')}.` : `${out} says what is there already.`, options);
      }
      const { setup } = await client.call(own.read, { params });
      const { text, written } = await newSetupFile(setup, out ?? null, functions ?? null);
      if (!out) return void surroundings().stdout.write(text);
      writeFileSync(out, text);
      note(`Wrote ${[out, ...written].join(', ')}.`, options);
    });
}

function addCompare(group: Command): void {
  sourced(group.command('compare'))
    .description('what applying would make, change and drop; ends with 6 where something differs')
    .option('--markdown', 'print it as Markdown')
    .action(async (file: string, given: SourceOptions & { markdown?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      const difference = await client.call(own.compare, { params, body: await sourceOf(file, given) });
      show(difference, { ...options, markdown: given.markdown });
      if (difference.changes.length > 0) surroundings().exitCode = DIFFERS;
    });
}

function show(difference: SetupDifferenceDocument, { json, markdown }: GlobalOptions & { markdown?: boolean | undefined }): void {
  if (json) return print(JSON.stringify(difference, null, 2));
  const text = markdown ? differenceMarkdown(difference as never) : differenceText(difference as never);
  print(printText(text.trimEnd()));
}

function addApply(group: Command): void {
  sourced(group.command('apply'))
    .description('apply it: to its end, or back to where it was')
    .option('--why <text>', 'what it is for', '')
    .option('--lose-data', 'apply it although data is lost')
    .option('--yes', 'do not ask')
    .action(async (file: string, given: SourceOptions & ApplyOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      await applySource(client, params, await sourceOf(file, given), given, options);
    });
}

type ApplyOptions = { why: string; loseData?: boolean; yes?: boolean };

async function applySource(client: HttpClient, params: Place, source: Source, given: ApplyOptions, options: GlobalOptions): Promise<void> {
  const difference = await client.call(own.compare, { params, body: source });
  if (difference.changes.length === 0) return note('Nothing differs.', options);
  if (difference.loses && !given.loseData) {
    surroundings().stderr.write(differenceText(difference as never));
    throw new CommandError('Data would be lost: see the lines with `!`. Give --lose-data to apply it nevertheless.', 4);
  }
  if (!given.yes) {
    surroundings().stderr.write(differenceText(difference as never));
    const answer = await ask(`Apply this to ${params.app}/${params.environment}? [y/N] `, '--yes');
    if (!/^y(es)?$/i.test(answer)) throw new CommandError('Nothing was applied.', 1);
  }
  const body = { ...source, base: difference.base, why: given.why, loseData: given.loseData ?? false };
  await follow(client, params, await client.call(own.apply, { params, body }), options);
}

const POLL_MS = 300;

/** Until it has ended. @throws {CommandError} 1 where it went back, or failed */
async function follow(client: HttpClient, params: Place, begun: ReleaseDocument, options: GlobalOptions): Promise<void> {
  let release = begun;
  if (release.state === 'proposed')
    return note(`Release ${release.id} waits for a second member: \`orchard release approve ${release.id}\`.`, options);
  const bar = isBarShown(options) ? newBar(' {bar} {value} of {total}  {doing}') : null;
  bar?.start(release.total, 0, { doing: '' });
  while (release.state === 'running' || release.state === 'returning') {
    await sleep(POLL_MS);
    release = await client.call(own.release, { params: { ...params, release: release.id } });
    bar?.setTotal(release.total);
    bar?.update(release.done, { doing: release.doing ?? '' });
  }
  bar?.stop();
  if (options.json) print(JSON.stringify(release, null, 2));
  if (release.state !== 'done')
    throw new CommandError(
      release.state === 'returned'
        ? `${release.problem} Everything is as it was before.`
        : `${release.problem} See \`orchard release show ${release.id}\`.`,
      1,
    );
  note(`Done: ${countsOf(changesOf(release))} Release ${release.id}.`, options);
}

const changesOf = ({ counts }: ReleaseDocument) =>
  (['make', 'change', 'drop'] as const).flatMap((action) => Array.from({ length: counts[action] }, () => ({ action })));

function addCheck(group: Command): void {
  group
    .command('check')
    .description('whether a setup file can be: its form, its names and values; nothing is asked of the service')
    .argument('[file]', 'the setup file', SETUP_FILE)
    .action(async (path: string, _options: object, command: Command) => {
      const file = await SetupFile.read(path);
      file.check();
      note(`${path} is a setup file.`, command.optsWithGlobals<GlobalOptions>());
    });
}

function addReleases(program: Command): void {
  program.command('release').description('how the setup was changed: who, why, and what came of it');
  addList(program, own.releases, [
    'id',
    ['at', ({ at }) => moment(at)],
    'state',
    ['by', ({ by }) => by.name ?? by.id],
    ['changes', ({ counts }) => countsOf(changesOf({ counts } as ReleaseDocument)).replace(/\.$/, '')],
    'why',
  ]);
  const group = program.commands.find((command) => command.name() === 'release') as Command;
  group
    .command('show <release>')
    .description('a release, with its difference')
    .action(async (release: string, _options: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const found = await client.call(own.release, { params: { ...params, release } });
      if (options.json) return print(JSON.stringify(found, null, 2));
      print(`${found.state}  ${moment(found.at)}  ${printText(found.by.name ?? found.by.id)}  ${printText(found.why)}`);
      if (found.problem) print(printText(found.problem));
      if (found.decidedBy) print(`decided by ${printText(found.decidedBy.name)}: ${printText(found.decision)}`);
      print('');
      show(found.difference, options);
    });
  for (const [verb, approve, about] of [
    ['approve', true, 'approve a proposed release, as somebody else than who proposed it'],
    ['refuse', false, 'refuse a proposed release, or take your own back'],
  ] as const)
    group
      .command(`${verb} <release>`)
      .description(about)
      .option('--comment <text>', 'what you say to it', '')
      .action(async (release: string, { comment }: { comment: string }, command: Command) => {
        const { options, client, params } = workspace(command);
        const decided = await client.call(own.decide, { params: { ...params, release }, body: { approve, comment } });
        if (approve) await follow(client, params, decided, options);
        else note('Refused.', options);
      });
  group
    .command('undo <release>')
    .description('apply the setup as it was before that release')
    .option('--why <text>', 'what it is for', '')
    .option('--lose-data', 'apply it although data is lost')
    .option('--yes', 'do not ask')
    .action(async (release: string, given: ApplyOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      await applySource(client, params, { release }, given, options);
    });
}
