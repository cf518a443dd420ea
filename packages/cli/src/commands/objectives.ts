/** How well environments are, and the objectives that say so. */
import { readFileSync } from 'node:fs';
import {
  actorWords,
  durationWords,
  type EnvironmentConditionDocument,
  measureWords,
  type Objective,
  operations,
  type ReplyOf,
  subjectWords,
  valueWords,
} from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, type GlobalOptions, globalsOf, signedIn, workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { note, printItem, printList } from '../output.js';
import { periodOf, type Period, timeOf, withPeriod } from '../period.js';
import { surroundings } from '../surroundings.js';

export function addConditionCommands(program: Command): void {
  const noun = program.command('condition').description('how well environments are');
  noun
    .command('show')
    .description('how well each environment is, with its calls of the last five minutes')
    .option('--at <time>', 'as it was then, such as 2026-11-18T03:12Z')
    .option('--objectives', 'the objectives of all environments instead, the nearest to its limit first')
    .action(async ({ at, objectives }: { at?: string; objectives?: boolean }, command: Command) => {
      const options = globalsOf(command);
      const query = at ? { at: new Date(timeOf(at)).toISOString() } : {};
      const reply = await signedIn(options).client.call(operations.condition.read, { query });
      if (options.json) printItem(reply, options);
      else if (objectives) printObjectives(reply.items, options);
      else printCondition(reply, options);
    });
  addHistory(noun);
}

function printCondition(reply: ReplyOf<typeof operations.condition.read>, options: GlobalOptions): void {
  printList(
    reply.items,
    [
      ['environment', ({ app, environment }) => `${app}/${environment}`],
      'condition',
      'since',
      ['calls', ({ recent }) => recent.reduce((sum, { calls }) => sum + calls, 0)],
      ['failed', ({ recent }) => recent.reduce((sum, { failed }) => sum + failed, 0)],
      ['refused', ({ recent }) => recent.reduce((sum, { refused }) => sum + refused, 0)],
      ['nearest', (item) => nearestWords(item)],
    ],
    options,
  );
  for (const { check, condition, text } of reply.installation?.checks ?? [])
    if (condition !== 'thriving') note(`The installation is ${condition} (${check}): ${text}`, options);
  if (reply.evaluatedAt) note(`Calls of the last five minutes; evaluated at ${reply.evaluatedAt}.`, options);
}

const nearest = <F extends { nearness: number | null }>(items: readonly F[]): F[] =>
  [...items].sort((a, b) => (b.nearness ?? -1) - (a.nearness ?? -1));

function nearestWords({ objectives }: EnvironmentConditionDocument): string {
  const [first] = nearest(objectives);
  return first?.value === null || first === undefined ? '' : `${first.name} ${valueWords(first.measure, first.value)}`;
}

function printObjectives(items: readonly EnvironmentConditionDocument[], options: GlobalOptions): void {
  const all = items.flatMap(({ app, environment, objectives }) => objectives.map((one) => ({ place: `${app}/${environment}`, ...one })));
  printList(
    nearest(all),
    [
      ['environment', ({ place }) => place],
      'name',
      'condition',
      ['value', ({ measure, value }) => (value === null ? '' : valueWords(measure, value))],
      ['stressed', ({ measure, stressed }) => valueWords(measure, stressed)],
      ['failing', ({ measure, failing }) => valueWords(measure, failing)],
      ['window', ({ windowMs }) => durationWords(windowMs)],
      ['budgetSpent', ({ budget }) => (budget ? `${Math.round(budget.spent * 100)} %` : '')],
    ],
    options,
  );
}

function addHistory(noun: Command): void {
  withPeriod(noun.command('history').description('changes of condition in a period')).action(async (own: Period, command: Command) => {
    const options = globalsOf(command);
    const reply = await signedIn(options).client.call(operations.condition.history, { query: periodOf(own) });
    if (options.json) return printItem(reply, options);
    const changes = reply.items.flatMap(({ app, environment, changes: own }) =>
      own.map((one) => ({ place: `${app}/${environment}`, ...one })),
    );
    printList(
      changes.sort((a, b) => (a.at < b.at ? -1 : 1)),
      ['at', ['environment', ({ place }) => place], 'condition', ['because', ({ text }) => text]],
      options,
    );
  });
}

export function addObjectiveCommands(program: Command): void {
  const noun = program.command('objective').description('what an environment promises, and when it is stressed or failing');
  addList(program, operations.objectives.read, [
    'name',
    ['of', ({ subject }) => subjectWords(subject)],
    ['measure', ({ measure }) => measureWords(measure)],
    ['window', ({ windowMs }) => durationWords(windowMs)],
    ['stressed', ({ measure, stressed }) => valueWords(measure, stressed)],
    ['failing', ({ measure, failing }) => valueWords(measure, failing)],
    'leastCalls',
    ['leaveOut', ({ leaveOut }) => leaveOut.join(' ')],
  ]);
  addList(program, operations.objectives.versions, [
    'version',
    'at',
    ['by', ({ by }) => actorWords(by)],
    'why',
    ['objectives', ({ items }) => items.map(({ name }) => name).join(' ')],
  ]);
  addCall(program, operations.objectives.replace, {
    about: 'replace the objectives by these, as JSON such as `objective list --json` prints, or - for standard input',
    show: ({ version, items }) => ({ version, objectives: items.map(({ name }) => name).join(' ') }),
  });
  addTrial(noun);
  addExport(noun);
  addImport(noun);
}

function addTrial(noun: Command): void {
  noun
    .command('try <name>')
    .description('what an objective would have said with other limits, beside what was said')
    .option('--stressed <number>', 'instead of its limit for stressed', Number)
    .option('--failing <number>', 'instead of its limit for failing', Number)
    .option('--days <n>', 'how far back', Number, 7)
    .action(async (name: string, own: { stressed?: number; failing?: number; days: number }, command: Command) => {
      const { options, client, params } = workspace(command);
      const { items } = await client.call(operations.objectives.read, { params });
      const present = items.find((one) => one.name === name);
      if (!present) throw new CommandError(`There is no objective ${name}. There are: ${items.map((one) => one.name).join(', ')}.`, 5);
      const objective: Objective = { ...present, stressed: own.stressed ?? present.stressed, failing: own.failing ?? present.failing };
      const trial = await client.call(operations.objectives.trial, { params, body: { objective, days: own.days } });
      if (options.json) return printItem(trial, options);
      const spent = (line: { condition: string }[] | null, condition: string) =>
        durationWords((line ?? []).filter((one) => one.condition === condition).length * trial.stepMs);
      const row = (of: string, limits: Objective, line: typeof trial.would | null) => ({
        limits: of,
        stressedBeyond: valueWords(limits.measure, limits.stressed),
        failingBeyond: valueWords(limits.measure, limits.failing),
        stressed: spent(line, 'stressed'),
        failing: spent(line, 'failing'),
      });
      printList(
        [row('now', present, trial.now), row('tried', objective, trial.would)],
        [
          'limits',
          'stressedBeyond',
          'failingBeyond',
          ['timeStressed', ({ stressed }) => stressed],
          ['timeFailing', ({ failing }) => failing],
        ],
        options,
      );
    });
}

function addExport(noun: Command): void {
  noun
    .command('export')
    .description('the objectives as OpenSLO v1 (YAML)')
    .action(async (_own: object, command: Command) => {
      const { client, params } = workspace(command);
      surroundings().stdout.write(await (await client.open(operations.objectives.exportSlo, { params })).text());
    });
}

function addImport(noun: Command): void {
  noun
    .command('import <file>')
    .description('objectives from OpenSLO v1 (YAML): shows what would change, and stores it with --apply')
    .option('--apply', 'store it as a new version')
    .option('--why <text>', 'why they are changed; kept with the version')
    .action(async (file: string, own: { apply?: boolean; why?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const body = { yaml: readFileSync(file === '-' ? 0 : file, 'utf8'), apply: own.apply ?? false, ...(own.why ? { why: own.why } : {}) };
      const { applied, differences, notes, set } = await client.call(operations.objectives.importSlo, { params, body });
      const words = (one: Objective | null) =>
        one
          ? `${measureWords(one.measure)}, ${subjectWords(one.subject)}, ${durationWords(one.windowMs)}: ${valueWords(one.measure, one.stressed)} / ${valueWords(one.measure, one.failing)}`
          : '';
      if (differences.length === 0 && !options.json) return note('Nothing differs from the objectives of now.', options);
      printList(
        differences,
        ['change', 'name', ['before', ({ before }) => words(before)], ['after', ({ after }) => words(after)]],
        options,
      );
      for (const one of notes) note(one, options);
      if (applied) note(`Stored as version ${set.version}.`, options);
      else if (differences.length > 0) note('Nothing is stored yet: --apply stores it.', options);
    });
}
