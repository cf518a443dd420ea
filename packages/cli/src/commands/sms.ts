import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { note, printItem } from '../output.js';
import { printPreview, printStatus } from './notifications.js';

export function addSmsCommands(program: Command): void {
  const sms = program.command('sms').description('short messages');
  addSend(sms);
  addList(program, operations.sms.inbox, ['at', 'sender', 'recipient', 'text', 'asked', 'userId']);
  addOptOutCommands(sms);
  addList(program, operations.sms.optOuts, ['way', 'address', 'state', 'because', 'at']);
}

function addSend(sms: Command): void {
  sms
    .command('send')
    .description('send a short message to numbers, users, or followers of topics')
    .requiredOption('--text <text>')
    .option('--to <numbers>', 'comma-separated, with + and calling code')
    .option('--user <ids>', 'comma-separated')
    .option('--topic <names>', 'followers of any of them')
    .option('--preview', 'only show segments, recipients and cost')
    .action(async (own: { text: string; to?: string; user?: string; topic?: string; preview?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      const audience = {
        ...(own.to ? { phones: own.to.split(',') } : {}),
        ...(own.user ? { users: own.user.split(',') } : {}),
        ...(own.topic ? { topics: { any: own.topic.split(',') } } : {}),
      };
      if (Object.keys(audience).length !== 1) throw new CommandError('No recipients are given. Give one of --to, --user, --topic.', 2);
      const body = { way: 'sms' as const, body: own.text, audience };
      if (own.preview) return printPreview(await client.call(operations.notifications.previewManaged, { params, body }), options);
      const sent = await client.call(operations.notifications.sendManaged, { params, body });
      printStatus(sent, options);
      note(`Follow it with: orchard notify status ${sent.id}`, options);
    });
}

/** The two states of a number or address, recorded by hand. */
function addOptOutCommands(sms: Command): void {
  for (const [verb, state, does] of [
    ['opt-out', 'out', 'record an opt-out of a number or address'],
    ['opt-in', 'in', 'record an opt-in of a number or address'],
  ] as const)
    sms
      .command(verb)
      .description(does)
      .argument('<number or address>')
      .requiredOption('--because <text>', 'who asked for it and how, such as "called on Monday"')
      .action(async (address: string, own: { because: string }, command: Command) => {
        const { options, client, params } = workspace(command);
        const way = address.includes('@') ? ('mail' as const) : ('sms' as const);
        const body = { state, because: own.because };
        printItem(await client.call(operations.sms.putOptOut, { params: { ...params, way, address }, body }), options);
      });
}

/** Prices, opt-out words, when unseen devices are retired. */
export function addMessagingCommands(program: Command): void {
  program.command('messaging').description('settings for messages of the environment');
  addCall(program, operations.sms.settings);
  addCall(program, operations.sms.patchSettings, { about: 'change settings, such as {"retireAfterDays": 90}' });
}
