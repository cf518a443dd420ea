/** The `orchard` command: all of its commands and options. */
import { Argument, Command, type Option } from 'commander';
import { addAccountCommands } from './commands/account.js';
import { addAlertCommands, addIncidentCommands } from './commands/alerts.js';
import { addAuditCommands } from './commands/audit.js';
import { addAppCommands, addEnvironmentCommands } from './commands/apps.js';
import { addChannelCommands } from './commands/channels.js';
import { addClientCommands, addKeyCommands } from './commands/clients.js';
import { addCollectionCommands } from './commands/collections.js';
import { addDeviceCommands } from './commands/devices.js';
import { addGatewayCommands } from './commands/gateways.js';
import { addEventCommands, addInsightCommands } from './commands/insight.js';
import { addJobCommands } from './commands/jobs.js';
import { addConditionCommands, addObjectiveCommands } from './commands/objectives.js';
import { addLogCommands } from './commands/log.js';
import { addMemberCommands } from './commands/members.js';
import { addNoticeCommands } from './commands/notices.js';
import { addNotificationCommands } from './commands/notifications.js';
import { addRecordCommands } from './commands/records.js';
import { addDigestCommands, addReportCommands } from './commands/reports.js';
import { addSecondFactorCommands } from './commands/secondFactors.js';
import { addMessagingCommands, addSmsCommands } from './commands/sms.js';
import { addTelemetryCommands } from './commands/telemetry.js';
import { addTokenCommands } from './commands/tokens.js';
import { addFileCommands } from './commands/files.js';
import { addBroadcastCommands } from './commands/broadcasts.js';
import { addTurnCommands } from './commands/turn.js';
import { addSiteCommands } from './commands/sites.js';
import { addFunctionCommands } from './commands/functions.js';
import { addUpstreamCommands } from './commands/upstreams.js';
import { addOutsideCommands } from './commands/outside.js';
import { addStandingCommands } from './commands/standing.js';
import { addSetupCommands } from './commands/setup.js';
import { addBackupCommands } from './commands/backups.js';
import { addSyncCommands } from './commands/sync.js';
import { addTopicCommands } from './commands/topics.js';
import { addInstallationGatewayCommands, addWayCommands } from './commands/ways.js';
import { addEntryCommands } from './commands/entry.js';
import { addUserCommands } from './commands/users.js';
import { complete, completionScript, SHELLS } from './completion.js';
import { print, surroundings } from './surroundings.js';

/** In the order of the help. */
const COMMANDS = [
  addAccountCommands,
  addAppCommands,
  addEnvironmentCommands,
  addClientCommands,
  addKeyCommands,
  addRecordCommands,
  addCollectionCommands,
  addFileCommands,
  addSiteCommands,
  addBroadcastCommands,
  addTurnCommands,
  addUserCommands,
  addEntryCommands,
  addDeviceCommands,
  addNotificationCommands,
  addFunctionCommands,
  addUpstreamCommands,
  addOutsideCommands,
  addSetupCommands,
  addBackupCommands,
  addStandingCommands,
  addSyncCommands,
  addTopicCommands,
  addSmsCommands,
  addChannelCommands,
  addGatewayCommands,
  addMessagingCommands,
  addNoticeCommands,
  addConditionCommands,
  addObjectiveCommands,
  addIncidentCommands,
  addAlertCommands,
  addTelemetryCommands,
  addLogCommands,
  addJobCommands,
  addReportCommands,
  addDigestCommands,
  addEventCommands,
  addInsightCommands,
  addMemberCommands,
  addSecondFactorCommands,
  addWayCommands,
  addTokenCommands,
  addAuditCommands,
  addInstallationGatewayCommands,
];

export function buildProgram(): Command {
  const program = new Command('orchard')
    .description('Vivid Orchard from the terminal')
    .version('0.1.0')
    .exitOverride()
    .configureOutput({
      writeOut: (text) => void surroundings().stdout.write(text),
      writeErr: (text) => void surroundings().stderr.write(text),
    })
    .showSuggestionAfterError()
    .option('--app <app>', 'app, instead of the remembered one')
    .option('--env <environment>', 'environment, instead of the remembered one')
    .option('--profile <name>', 'name of a saved sign-in')
    .option('--json', 'print JSON')
    .option('--csv', 'print lists as CSV')
    .option('--quiet', 'no messages on standard error')
    .addHelpText('after', EXIT_CODES)
    .configureHelp({ optionDescription: (option) => describeOption(option) });
  sayWhere(program);
  for (const add of COMMANDS) add(program);
  program
    .command('completion')
    .description('print a shell completion script')
    .addArgument(new Argument('<shell>').choices(SHELLS))
    .action((shell: (typeof SHELLS)[number]) => print(completionScript(shell)));
  program
    .command('complete', { hidden: true })
    .argument('[words...]')
    .allowUnknownOption()
    .action((words: string[]) => print(complete(program, words).join('\n')));
  inherit(program);
  return program;
}

/** The description of an option, with a mark if it is required. */
function describeOption(option: Option): string {
  const { description, mandatory, argChoices, defaultValue } = option;
  const more = [
    ...(mandatory ? ['required'] : []),
    ...(argChoices ? [`one of ${argChoices.join(', ')}`] : []),
    ...(defaultValue === undefined || typeof defaultValue === 'boolean' ? [] : [`default ${defaultValue}`]),
  ];
  return more.length > 0 ? `${description}${description ? ' ' : ''}(${more.join('; ')})` : description;
}

/** Wrong usage points to the command's own help. */
function sayWhere(command: Command): void {
  const names: string[] = [];
  for (let at: Command | null = command; at; at = at.parent) names.unshift(at.name());
  const outputError = (text: string, write: (text: string) => void) =>
    write(`${text.replace(/^error: /, '').trim()}\nSee \`${names.join(' ')} --help\`.\n`);
  command.configureOutput({ outputError });
}

/** Subcommands throw too, and print errors as the program does. */
function inherit(command: Command): void {
  for (const child of command.commands) {
    child.copyInheritedSettings(command);
    sayWhere(child);
    inherit(child);
  }
}

const EXIT_CODES = `
Exit codes: 0 success; 1 failure, including completed work whose result is a failure; 2 wrong usage; 3 not signed in;
4 refused or invalid; 5 not found.`;
