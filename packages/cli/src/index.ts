/** The `orchard` command. */
import { Problem } from '@orchard/contract';
import { Argument, Command, CommanderError, type Option } from 'commander';
import { addAccountCommands } from './commands/account.js';
import { addAppCommands } from './commands/apps.js';
import { addCollectionCommands } from './commands/collections.js';
import { addGatewayCommands } from './commands/gateways.js';
import { addJobCommands } from './commands/jobs.js';
import { addMemberCommands } from './commands/members.js';
import { addMessageCommands } from './commands/messages.js';
import { addDeviceCommands, addUserCommands } from './commands/people.js';
import { addChannelCommands, addMessagingCommands, addNoticeCommands, addSmsCommands, addTopicCommands } from './commands/reach.js';
import { addRecordCommands } from './commands/records.js';
import { addTelemetryCommands } from './commands/telemetry.js';
import { complete, completionScript, SHELLS } from './completion.js';
import { CommandError } from './context.js';

function buildProgram(): Command {
  const program = new Command('orchard')
    .description('Vivid Orchard from the terminal')
    .version('0.1.0')
    .exitOverride()
    .showSuggestionAfterError()
    .option('--app <app>', 'app, in place of the remembered one')
    .option('--env <environment>', 'environment, in place of the remembered one')
    .option('--profile <name>', 'one of several sign-ins')
    .option('--json', 'answer as JSON')
    .option('--csv', 'lists as CSV')
    .option('--quiet', 'no notes on standard error')
    .addHelpText('after', EXIT_CODES)
    .configureHelp({ optionDescription: (option) => describeOption(option) });
  sayWhere(program);
  addAccountCommands(program);
  addAppCommands(program);
  addRecordCommands(program);
  addCollectionCommands(program);
  addUserCommands(program);
  addDeviceCommands(program);
  addMessageCommands(program);
  addTopicCommands(program);
  addSmsCommands(program);
  addChannelCommands(program);
  addGatewayCommands(program);
  addMessagingCommands(program);
  addNoticeCommands(program);
  addTelemetryCommands(program);
  addJobCommands(program);
  addMemberCommands(program);
  program
    .command('completion')
    .description('a script that completes words in your shell')
    .addArgument(new Argument('<shell>').choices(SHELLS))
    .action((shell: (typeof SHELLS)[number]) => console.log(completionScript(shell)));
  program
    .command('complete', { hidden: true })
    .argument('[words...]')
    .allowUnknownOption()
    .action((words: string[]) => console.log(complete(program, words).join('\n')));
  inherit(program);
  return program;
}

/** What an option is for, and whether one cannot do without it. */
function describeOption(option: Option): string {
  const { description, mandatory, argChoices, defaultValue } = option;
  const more = [
    ...(mandatory ? ['required'] : []),
    ...(argChoices ? [`one of ${argChoices.join(', ')}`] : []),
    ...(defaultValue === undefined || typeof defaultValue === 'boolean' ? [] : [`default ${defaultValue}`]),
  ];
  return more.length > 0 ? `${description}${description ? ' ' : ''}(${more.join('; ')})` : description;
}

/** A command used wrongly points to its own help. */
function sayWhere(command: Command): void {
  const names: string[] = [];
  for (let at: Command | null = command; at; at = at.parent) names.unshift(at.name());
  const outputError = (text: string, write: (text: string) => void) =>
    write(`${text.replace(/^error: /, '').trim()}\nSee \`${names.join(' ')} --help\`.\n`);
  command.configureOutput({ outputError });
}

/** Every subcommand ends by throwing too, and speaks like the program. */
function inherit(command: Command): void {
  for (const child of command.commands) {
    child.copyInheritedSettings(command);
    sayWhere(child);
    inherit(child);
  }
}

const EXIT_CODES = `
Exit codes: 0 done; 1 failed, also work that was done and whose result is a failure; 2 used wrongly; 3 not signed in;
4 refused, or not valid; 5 not found.`;

function exitCode(error: unknown): number {
  if (error instanceof CommanderError) return error.exitCode === 0 ? 0 : 2;
  if (error instanceof CommandError) return error.code;
  if (!(error instanceof Problem)) return 1;
  if (error.problem === 'member-sign-in-needed' || error.problem === 'sign-in-refused') return 3;
  if (error.status === 404) return 5;
  return error.status < 500 ? 4 : 1;
}

/** What is wrong with a field and what is wanted, which the problem often says itself. */
function withExpected(problem: string, expected: string): string {
  const wanted = expected.replace(/\.$/, '');
  return problem.includes(wanted) ? problem : `${problem} Expected: ${wanted}.`;
}

function sentence(error: unknown): string {
  if (error instanceof Problem) {
    const fields =
      error.extras.fields?.map(({ path, problem, expected }) => `\n  ${path}: ${withExpected(problem, expected)}`).join('') ?? '';
    return `${error.detail}${fields}${error.request ? `\n(request ${error.request})` : ''}`;
  }
  if (error instanceof TypeError && error.message === 'fetch failed')
    return `The service cannot be reached (${(error.cause as { code?: string })?.code ?? 'no answer'}). Is it running, and is the address right?`;
  return (error as Error).message;
}

// Who reads has enough, such as `| head`: that is no failure of ours.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code !== 'EPIPE') throw error;
  process.exit(0);
});

try {
  await buildProgram().parseAsync();
} catch (error) {
  if (!(error instanceof CommanderError)) console.error(sentence(error));
  process.exitCode = exitCode(error);
}
