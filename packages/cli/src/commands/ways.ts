/** How you can be reached, and the gateways of the installation that reach members. */
import { type MemberWay, operations } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, globalsOf, signedIn } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { note, printItem } from '../output.js';

const own = operations.memberWays;
const quietWords = ({ quiet, timeZone }: MemberWay) => (quiet ? `${quiet.from} to ${quiet.to} ${timeZone}` : '');

export function addWayCommands(program: Command): void {
  const noun = program.command('way').description('how you can be reached: mail, SMS, browsers');
  addList(program, own.list, ['kind', 'name', 'verified', ['quiet', quietWords], 'urgentAnyway', 'lastSentAt', 'lastFailure', 'id'], {
    hint: ({ missing }) => Object.values(missing).filter(Boolean).join('\n') || undefined,
  });
  addAdd(noun);
  addCall(program, own.verify, { hint: ({ name }) => `${name} is verified.` });
  addChange(noun);
  addCall(program, own.test, { show: ({ way, state, reason }) => ({ way, state, reason }) });
  addList(program, own.messages, ['createdAt', 'way', 'title', 'state', 'reason']);
  addRemoval(program, own.remove, { what: ({ way }) => `Removing the way ${way}`, back: 'You can add it again.' });
}

function addAdd(noun: Command): void {
  noun
    .command('add')
    .description('add a mail address or phone number; a code is sent there, for `way verify`')
    .argument('<address>', 'such as mira@quillfell.example or +12025550147')
    .option('--time-zone <name>', 'for quiet hours, such as Europe/Oslo')
    .action(async (address: string, { timeZone }: { timeZone?: string }, command: Command) => {
      const options = globalsOf(command);
      const zone = timeZone ? { timeZone } : {};
      const body = address.includes('@') ? { kind: 'mail' as const, address, ...zone } : { kind: 'sms' as const, number: address, ...zone };
      const added = await signedIn(options).client.call(own.add, { body });
      printItem({ id: added.id, kind: added.kind, name: added.name, verified: added.verified }, options);
      note(`A code is on its way. Enter it with \`orchard way verify ${added.id} <code>\`.`, options);
    });
}

function addChange(noun: Command): void {
  noun
    .command('set')
    .description('set quiet hours')
    .argument('<way>')
    .option('--quiet-hours <hours>', 'such as 22:00-07:00, or none')
    .option('--time-zone <name>', 'of the quiet hours, such as Europe/Oslo')
    .option('--urgent-anyway', 'urgent messages come during quiet hours too')
    .option('--no-urgent-anyway', 'urgent messages wait as well')
    .action(async (way: string, given: { quietHours?: string; timeZone?: string; urgentAnyway?: boolean }, command: Command) => {
      const options = globalsOf(command);
      const { quietHours, timeZone, urgentAnyway } = given;
      const body = {
        ...(quietHours === undefined ? {} : { quiet: readQuiet(quietHours) }),
        ...(timeZone === undefined ? {} : { timeZone }),
        ...(urgentAnyway === undefined ? {} : { urgentAnyway }),
      };
      if (Object.keys(body).length === 0)
        throw new CommandError('There is nothing to change. Give --quiet-hours, --time-zone, --urgent-anyway.', 2);
      const changed = await signedIn(options).client.call(own.patch, { params: { way }, body });
      printItem({ ...changed, quiet: quietWords(changed) || 'none' }, options);
    });
}

function readQuiet(text: string): { from: string; to: string } | null {
  if (text === 'none') return null;
  const [, from, to] = /^(\d\d:\d\d)-(\d\d:\d\d)$/.exec(text) ?? [];
  if (!from || !to) throw new CommandError(`\`${text}\` must be hours such as 22:00-07:00, or none.`, 2);
  return { from, to };
}

export function addInstallationGatewayCommands(program: Command): void {
  program.command('installation-gateway').description('gateways that reach members, independent of environments');
  addList(program, own.gateways, [
    'name',
    'kind',
    'stage',
    'ready',
    ['missing', ({ readiness }) => readiness.find(({ ready }) => !ready)?.text],
    ['checkedAt', ({ check }) => check?.at],
  ]);
  addCall(program, own.addGateway, { show: ({ name, kind, stage, ready }) => ({ name, kind, stage, ready }) });
  addCall(program, own.checkGateway, {
    print: (check, options) => {
      if (options.json) return printItem(check, options);
      printItem(Object.fromEntries(check.steps.map(({ what, text }) => [what, text])), options);
      if (!check.ok) throw new CommandError('The check failed.', 1);
    },
  });
  addRemoval(program, own.removeGateway, {
    what: ({ gateway }) => `Removing the gateway ${gateway} of the installation and its credential`,
  });
}
